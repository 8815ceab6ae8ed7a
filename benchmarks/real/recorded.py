"""Build the recorded problems from ``$REAL_SOUNDS/raw`` (see fetch.sh); fixed seeds, sorted inputs.

usage: recorded.py [--only drums,voices,letters,background,tables,long]
"""

import argparse
import csv
import functools
import hashlib
import json
import os
import re
import shutil
import tempfile
import time
import unicodedata
import xml.etree.ElementTree as ET
from collections import Counter, defaultdict
from pathlib import Path

import numpy as np
import soundfile as sf
import soxr

DATA = Path(os.environ.get("REAL_SOUNDS") or Path(tempfile.gettempdir()) / "real-sounds")
RAW = DATA / "raw" / "usr" / "share"
SR = 16000
TEST_KITS = ["ColomboAcousticDrumkit", "Gimme A Hand 1.0", "The Black Pearl 1.0", "rumpf_kit_z01_h2"]
VAL_KITS = ["Millo-Drums_v.1", "Millo_MultiLayered2", "Millo_MultiLayered3"]
LANGS = {
    "en": "en_US_f_Allison",
    "es": "es_MX_f_Allison",
    "fr": "fr_CA_f_June",
    "it": "it_IT_m_Carlo",
    "ru": "ru_RU_f_IvrvoiceRU",
}


# ------------------------------------------------------------------------------------------------- helpers
def fresh(name):
    d = DATA / name
    shutil.rmtree(d, ignore_errors=True)
    d.mkdir(parents=True)
    return d


def write_csv(path, header, rows):
    with Path(path).open("w", newline="", encoding="utf-8") as f:
        w = csv.writer(f, lineterminator="\n")
        w.writerow(header)
        w.writerows(rows)


def read_csv(path):
    with Path(path).open(newline="", encoding="utf-8") as f:
        return list(csv.DictReader(f))


def put(src, dst, link=False):
    dst.parent.mkdir(parents=True, exist_ok=True)
    if link:
        try:
            os.link(src, dst)
        except OSError:  # another file system
            shutil.copyfile(src, dst)
    else:
        shutil.copyfile(src, dst)


def mono(path, sr=SR):
    x, r = sf.read(path, dtype="float64", always_2d=True)
    x = x.mean(1)
    return soxr.resample(x, r, sr) if r != sr else x


def envelope_db(x, sr=SR, win=0.010, hop=0.0025):
    """RMS envelope in dB: 10 ms windows, 2.5 ms hop."""
    n, h = int(win * sr), int(hop * sr)
    c = np.concatenate([[0.0], np.cumsum(np.pad(x, (n // 2, n)) ** 2)])
    i = np.arange(0, len(x), h)
    return 10 * np.log10(np.maximum(c[i + n] - c[i], 0) / n + 1e-14), h


def loud_part(x, drop=30.0, sr=SR, rise=20.0):
    """(first, last) sample: from 5 ms before the level first comes within `rise` dB of the maximum
    to the last moment it is within `drop` dB of it."""
    e, h = envelope_db(x, sr)
    k = int(e.argmax())
    a = int(np.flatnonzero(e[: k + 1] > e[k] - rise)[0])
    b = int(np.flatnonzero(e > e[k] - drop)[-1])
    return max(0, a * h - int(0.005 * sr)), min(len(x), (b + 1) * h)


# ------------------------------------------------------------------------------------------------- drums
DROP = (
    r"semi|swish|choke|roll|stick|rim click|bongo|conga|djembe|head|cajon|waterglass|zap|^fx$|whistle|click"
    r"|(?<!bass )drum \d|^sample:|^\d+$"
)
HAT = r"hi-?\s?hat|\bhh\b|\bohh\b|\bhat\b"
CLASSES = [
    ("cymbal", r"crash|ride|cymbal|china|splash|paiste bell"),
    ("kick", r"kick|bass ?drum"),
    ("snare", r"snare|redo super opaco"),  # redo(blante) = snare
    ("tom", r"\btom|tomhi"),
    ("percussion", r"clap|cowbell|agogo|tambourine|maraca|snaps|clave|woodblock|\bbell\b"),
]
# (kit, instrument pattern) -> label or None; corrections of the names, checked by numbers
EXCEPTIONS = [
    ("Audiophob", r"^kick$", None, "file is called tom"),
    ("Audiophob", r"cowbell", None, "centroid 68 Hz: no cowbell"),
    ("Audiophob", r"pedal hh", None, "file is a shaker"),
    ("ForzeeStereo", r"^snare 2", None, "snare wires off: sounds like a tom"),
    ("ElectricEmpireKit", r"hat (closed bs|low|ring)", None, "most energy below 200 Hz, or kind unclear"),
    ("HardElectro1", r"^side", None, "open or closed unclear"),
    ("ColomboAcousticDrumkit", r"pedal hh", None, "files are semi-open / open hits"),
    (
        "rumpf_kit_z01_h2",
        r"tom|crash|cymbal|ride|snare 2|open",
        None,
        "slot names do not fit the sound (e.g. 'cymbal 1' has its centroid at 31 Hz)",
    ),
]
FILE_EXCEPTIONS = {
    ("ColomboAcousticDrumkit", "hihat-open-1.flac"): "hihat-open",  # named open, decays 0.8 s
    ("ColomboAcousticDrumkit", "hihat-semi-open-2.flac"): None,
}  # sits in the closed instrument


def drum_label(kit, name):
    n = (name or "").strip().lower()
    if not n or n.endswith(" -"):
        return None, "no name"
    for k, pat, lab, why in EXCEPTIONS:
        if k == kit and re.search(pat, n):
            return lab, why
    if re.search(DROP, n):
        return None, "unclear or rare kind"
    if re.search(HAT, n):
        if re.search(r"open|\bop\b|free", n):
            return "hihat-open", ""
        if re.search(r"closed|\bcl\b|pedal|\bpd\b|foot", n):
            return "hihat-closed", ""
        if re.search(r"\bhh \d", n):
            return "hihat-closed", ""
        return None, "hi-hat of unclear kind"
    for lab, pat in CLASSES:
        if re.search(pat, n):
            return lab, ""
    return None, "no class"


def parse_kit(path):
    """[(instrument name, [files])] of a drumkit.xml, old and new layout."""
    out = []
    for ins in ET.parse(path).getroot().iter():
        if ins.tag.split("}")[-1] != "instrument":
            continue
        name, files = None, []
        for c in ins.iter():
            t = c.tag.split("}")[-1]
            if t == "name" and name is None:
                name = c.text
            elif t == "filename" and c.text:
                files.append(c.text)
        out.append((name, files))
    return out


def near_duplicates(paths, thr=0.97):
    """Pairs of files whose first 0.6 s are the same up to gain and a small shift: (i, j, correlation, exact)."""
    n, size = int(0.6 * SR), 1 << 15
    segs, hashes = [], []
    for p in paths:
        x, r = sf.read(p, dtype="float64", always_2d=True)
        hashes.append(hashlib.sha256(str((r, x.shape)).encode() + x.tobytes()).hexdigest())
        x = soxr.resample(x.mean(1), r, SR)
        on = int(np.argmax(np.abs(x) > 0.1 * np.abs(x).max()))
        s = x[max(0, on - 80) : on + n]
        s = np.pad(s, (0, n + 80 - len(s)))
        segs.append(np.fft.rfft(s / (np.sqrt((s**2).sum()) + 1e-12), size).astype(np.complex64))
    spectra = np.array(segs)
    pairs = []
    for i in range(len(paths) - 1):
        c = np.abs(np.fft.irfft(spectra[i].conj() * spectra[i + 1 :], size, axis=1))
        m = np.maximum(c[:, :400].max(1), c[:, -400:].max(1))
        pairs += [
            (i, i + 1 + int(j), float(m[j]), hashes[i] == hashes[i + 1 + int(j)]) for j in np.flatnonzero(m > thr)
        ]
    return pairs


def build_drums():
    d = fresh("drums")
    kits = RAW / "hydrogen" / "data" / "drumkits"
    found, log, missing = {}, [], []
    for kit in sorted(path.name for path in kits.iterdir()):
        for name, files in parse_kit(kits / kit / "drumkit.xml"):
            lab, why = drum_label(kit, name)
            if not files:
                continue
            log.append((kit, name or "", lab or "(dropped)", len(files), why))
            for f in files:
                fl = FILE_EXCEPTIONS.get((kit, f), lab)
                if fl is None:
                    continue
                if not (kits / kit / f).exists():
                    missing.append(f"{kit}/{f}")
                    continue
                found.setdefault((kit, f), set()).add(fl)
    conflict = sorted(k for k, v in found.items() if len(v) > 1)
    keys = sorted(k for k, v in found.items() if len(v) == 1)
    paths = [kits / k / f for k, f in keys]
    peak = [float(np.abs(sf.read(p, always_2d=True)[0]).max()) for p in paths]
    drop, dup = set(), []
    for i, j, c, exact in near_duplicates(paths):
        same_kit = keys[i][0] == keys[j][0]
        kind = "exact" if exact else "same up to gain" if c > 0.9995 else "near"
        if kind != "near" and same_kit:  # keep the louder copy
            drop.add(i if peak[i] < peak[j] else j)
        dup.append([kind, "yes" if same_kit else "no", "/".join(keys[i]), "/".join(keys[j]), f"{c:.4f}"])
    rows, split = [], []
    for i, (kit, f) in enumerate(keys):
        if i in drop:
            continue
        (lab,) = found[(kit, f)]
        put(paths[i], d / "audio" / kit / f)
        rows.append((f"audio/{kit}/{f}", lab, kit))
        split.append(
            (f"audio/{kit}/{f}", "test" if kit in TEST_KITS else "validation" if kit in VAL_KITS else "train")
        )
    write_csv(d / "clips.csv", ["file", "label", "group"], rows)
    write_csv(d / "split.csv", ["file", "split"], split)
    write_csv(d / "mapping.csv", ["kit", "instrument", "label", "files", "reason"], log)
    write_csv(d / "duplicates.csv", ["kind", "same_kit", "file_a", "file_b", "correlation"], dup)
    fold = fresh("drums_folders")
    for f, lab, kit in rows:
        put(d / f, fold / lab / f"{kit}__{Path(f).name}", link=True)
    return {
        "clips": len(rows),
        "labels": Counter(r[1] for r in rows),
        "splits": Counter(s[1] for s in split),
        "copies_dropped": len(drop),
        "near_pairs": len(dup),
        "cross_kit": [r for r in dup if r[1] == "no"],
        "missing_on_disk": missing,
        "conflicting_labels": ["/".join(k) for k in conflict],
    }


# ------------------------------------------------------------------------------------------------- voices
def build_voices(per_class=200):
    d = fresh("voices")
    base = RAW / "asterisk" / "sounds"
    have = defaultdict(dict)
    for lang, folder in LANGS.items():
        for p in sorted((base / folder).rglob("*.wav")):
            name = p.relative_to(base / folder).with_suffix("").as_posix()
            if re.match(r"beep|silence/|tt-monkeys$", name):
                continue
            x, r = sf.read(p)
            if 0.4 <= len(x) / r <= 8 and np.sqrt(np.mean(x**2)) > 10 ** (-45 / 20):
                have[name][lang] = p
    names = sorted(n for n, v in have.items() if len(v) == len(LANGS))
    rng = np.random.default_rng(11)
    pick = [names[i] for i in rng.permutation(len(names))[:per_class]]
    part = {
        n: ("train" if i < 0.6 * per_class else "validation" if i < 0.75 * per_class else "test")
        for i, n in enumerate(pick)
    }
    rows, split = [], []
    for n in sorted(pick):
        for lang in LANGS:
            f = f"audio/{lang}/{n}.wav"
            put(have[n][lang], d / f)
            rows.append((f, lang, n))
            split.append((f, part[n]))
    write_csv(d / "clips.csv", ["file", "label", "group"], rows)
    write_csv(d / "split.csv", ["file", "split"], split)
    return {
        "usable_prompts": len(names),
        "labels": Counter(r[1] for r in rows),
        "splits": Counter(s[1] for s in split),
    }


# ------------------------------------------------------------------------------------------------- letters
MAL = {
    "\u0d3e": "a",
    "\u0d3f": "i",
    "\u0d40": "i",
    "\u0d41": "u",
    "\u0d42": "u",
    "\u0d46": "e",
    "\u0d47": "e",
    "\u0d4a": "o",
    "\u0d4b": "o",
}
CYR = {"\u0410": "a", "\u0415": "e", "\u041e": "o", "O": "o", "\u0423": "u"}


def vowel(lang, name):
    """The vowel (a e i o u) that a consonant+vowel syllable ends with, or None."""
    n = unicodedata.normalize("NFC", name.strip().upper())
    if lang == "ml":
        return MAL.get(n[1]) if len(n) == 2 else None
    if lang in ("ru", "uk"):
        table = dict(CYR, **({"\u0418": "i"} if lang == "ru" else {"\u0406": "i"}))
        if len(n) != 2 or n[0] in table or n in ("\u0416\u0418", "\u0428\u0418"):
            return None
        return table.get(n[1])
    n = "".join(c for c in unicodedata.normalize("NFD", n) if not unicodedata.combining(c))
    if len(n) < 2 or n[-1] not in "AEIOU" or n[0] in "AEIOU" or (lang in ("cs", "fr") and len(n) != 2):
        return None
    if lang == "fr" and n[-1] in "EU":
        return None
    return n[-1].lower()


def build_letters(cap=25):
    d = fresh("letters")
    base = RAW / "klettres"
    rng = np.random.default_rng(12)
    rows = []
    for lang in ["cs", "es", "fr", "it", "ml", "pt_BR", "ru", "tn", "uk"]:
        got = defaultdict(list)
        for sec in ET.parse(base / lang / "sounds.xml").getroot().iter("syllables"):
            for s in sec.iter("sound"):
                v, f = vowel(lang, s.get("name")), s.get("file")
                if v and (base / f).exists():
                    got[v].append(f)
        for v in sorted(got):
            fs = sorted(set(got[v]))
            for f in sorted(fs[i] for i in rng.permutation(len(fs))[:cap]):
                put(base / f, d / "audio" / f)
                rows.append((f"audio/{f}", v, lang))
    write_csv(d / "clips.csv", ["file", "label", "group"], rows)
    part = {"pt_BR": "test", "ru": "test", "tn": "test", "it": "validation"}
    write_csv(d / "split.csv", ["file", "split"], [(f, part.get(g, "train")) for f, _, g in rows])
    return {"labels": Counter(r[1] for r in rows), "groups": Counter(r[2] for r in rows)}


# ------------------------------------------------------------------------------------------------- background
# A: heard only in long/ (evaluation).  B: for background/ (training) and tune/.
BG_A = ["ambi_drone", "ambi_sauna", "ambi_lunar_land", "ambi_haunted_hum", "vinyl_hiss"]
BG_B = ["ambi_glass_hum", "ambi_dark_woosh", "ambi_soft_buzz", "ambi_swoosh", "loop_3d_printer", "loop_drone_g_97"]


def colored(n, rng, power, sr=SR):
    """Noise with spectrum 1/f^power (0 white, 1 pink, 2 brown), unit RMS, in blocks of 2^20 with overlap."""
    block, lap = 1 << 20, 1 << 12
    out = np.zeros(n + block, dtype=np.float32)
    f = np.fft.rfftfreq(block, 1 / sr)
    shape = np.where(f > 20, np.maximum(f, 20) ** (-power / 2), 0)
    win = np.ones(block)
    win[:lap] = np.sin(np.linspace(0, np.pi / 2, lap))
    win[-lap:] = np.cos(np.linspace(0, np.pi / 2, lap))
    for a in range(0, n, block - lap):
        x = np.fft.irfft(np.fft.rfft(rng.standard_normal(block)) * shape, block)
        out[a : a + block] += win * x / np.sqrt(np.mean(x**2))
    return out[:n]


def loop(x, n, rng, lap=0.25):
    """x repeated to n samples with equal-power cross-fades, starting at a random place."""
    k = max(1, int(len(x) * lap))
    w = np.ones(len(x))
    w[:k] = np.sin(np.linspace(0, np.pi / 2, k))
    w[-k:] = np.cos(np.linspace(0, np.pi / 2, k))
    step, off = len(x) - k, int(rng.integers(len(x)))
    out = np.zeros(n + 3 * len(x), dtype=np.float32)
    for a in range(0, n + 2 * len(x), step):
        out[a : a + len(x)] += (w * x)[: len(out) - a]
    return out[len(x) + off // 2 : len(x) + off // 2 + n]


def ambience(n, sources, noises, rng, sr=SR, level=-50.0):
    """Background bed: drifting noise at about `level` dBFS with ambience loops of 20-60 s fading in and out."""
    loops = [mono(RAW / "sonic-pi" / "samples" / f"{s}.flac", sr) for s in sources]
    loops = [x / np.sqrt(np.mean(x**2)) for x in loops]
    out = np.zeros(n, dtype=np.float32)
    knots = np.arange(0, n + 10 * sr, 10 * sr)
    for p in noises:
        drift = np.interp(np.arange(n), knots, np.clip(np.cumsum(rng.normal(0, 1, len(knots))) * 0.5, -3, 3))
        out += colored(n, rng, p, sr) * (10 ** ((drift - 3 * (len(noises) - 1)) / 20)).astype(np.float32)
    a, fade = 0, 2 * sr
    while a < n:
        m = min(n - a, int(rng.uniform(20, 60) * sr))
        seg = loop(loops[int(rng.integers(len(loops)))], m, rng) * 10 ** (rng.uniform(-8, 2) / 20)
        w = np.minimum(1, np.minimum(np.arange(m), np.arange(m)[::-1]) / fade)
        out[a : a + m] += (w * seg).astype(np.float32)
        a = a + m - fade if a + m < n else n
    return out * np.float32(10 ** (level / 20))


def build_background(n=160):
    """Clips of noise and ambience that a tool may use as a 'background' training class; none is heard in long/."""
    d = fresh("background")
    rng = np.random.default_rng(13)
    rows = []
    for k, src in enumerate([[s] for s in BG_B] + [BG_B]):
        bed = ambience(n * SR, src, [0, 2] if k % 2 else [2], rng, level=-30)
        for i in range(n // (len(BG_B) + 1)):
            m = int(rng.uniform(0.5, 4) * SR)
            a = int(rng.integers(len(bed) - m))
            f = f"audio/{src[0] if len(src) == 1 else 'mixed'}_{i:02d}.wav"
            (d / "audio").mkdir(exist_ok=True)
            x = bed[a : a + m] / np.abs(bed[a : a + m]).max() * 10 ** (rng.uniform(-40, -3) / 20)
            sf.write(d / f, x, SR, subtype="PCM_16")
            rows.append((f, "background", src[0] if len(src) == 1 else "mixed"))
    write_csv(d / "clips.csv", ["file", "label", "group"], rows)
    return {"clips": len(rows)}


def tables(name, rows, part):
    """clips.csv, split.csv and the parts: train, validation, test, dev (train + validation) and dev_with_background;
    rows: (file, label, group), part: {file: split}. A group is in a single split."""
    d = DATA / name
    side = defaultdict(set)
    for f, _, g in rows:
        side[g].add(part[f])
    assert all(len(v) == 1 for v in side.values()), {g: v for g, v in side.items() if len(v) > 1}
    head = ["file", "label", "group"]
    write_csv(d / "clips.csv", head, rows)
    write_csv(d / "split.csv", ["file", "split"], [(r[0], part[r[0]]) for r in rows])
    bg = []
    for r in read_csv(DATA / "background" / "clips.csv"):  # inside the set's folder: no path with .. needed
        put(DATA / "background" / r["file"], d / "background" / Path(r["file"]).name, link=True)
        bg.append(("background/" + Path(r["file"]).name, r["label"], r["group"]))
    parts = {p: [r for r in rows if part[r[0]] == p] for p in ("train", "validation", "test")}
    parts["dev"] = [r for r in rows if part[r[0]] != "test"]
    parts["dev_with_background"] = parts["dev"] + bg
    for p, rs in parts.items():
        write_csv(d / f"{p}.csv", head, rs)
    return {
        "clips": len(rows),
        "splits": Counter(part.values()),
        "table": {p: Counter(r[1] for r in parts[p]) for p in ("train", "validation", "test")},
        "groups": {p: sorted({r[2] for r in parts[p]})[:30] for p in ("train", "validation", "test")},
    }


def build_tables():
    made = {}
    for s in ("drums", "voices", "letters"):
        shutil.rmtree(DATA / s / "background", ignore_errors=True)
        split = {r["file"]: r["split"] for r in read_csv(DATA / s / "split.csv")}
        rows = [(r["file"], r["label"], r["group"]) for r in read_csv(DATA / s / "clips.csv")]
        made[s] = tables(s, rows, split)
    return made


# ------------------------------------------------------------------------------------------------- long recordings
def pool(name, part):
    """{label: [path]} of a split."""
    split = {r["file"]: r["split"] for r in read_csv(DATA / name / "split.csv")}
    out = defaultdict(list)
    for r in read_csv(DATA / name / "clips.csv"):
        if split[r["file"]] == part:
            out[r["label"]].append(DATA / name / r["file"])
    return out


def hit(x, sr=SR):
    """The loud part of a clip, faded out, and the sample of its attack: 2 ms before it reaches 10 % of the peak."""
    a, b = loud_part(x, sr=sr)
    y = x[a:b].astype(np.float64)
    k = min(len(y) // 4, int(0.01 * sr))
    y[len(y) - k :] *= np.linspace(1, 0, k)
    lead = int(np.argmax(np.abs(y) > 0.1 * np.abs(y).max()))
    return y, max(0, lead - int(0.002 * sr))


def place(rng, n, sr, draw, n_events, overlap, min_gap):
    """What `draw(kind, avoid)` gives, at random places of n samples: n_events events and a tenth as many distractors,
    min_gap s or more apart; then overlap * n_events more events, each of which starts inside an earlier one."""
    items = [draw("event") for _ in range(n_events)] + [draw("distractor") for _ in range(n_events // 10)]
    items = [items[i] for i in rng.permutation(len(items))]
    gap = int(min_gap * sr)
    free = n - 2 * sr - sum(len(i["y"]) + gap for i in items)
    assert free > 0, "too many events"
    at = sr
    for i, u in zip(items, np.diff(np.sort(np.r_[0, rng.uniform(0, free, len(items))])), strict=True):
        at += int(u)
        i["at"] = at
        at += len(i["y"]) + gap
    base = [i for i in items if i["kind"] == "event"]
    for _ in range(int(overlap * n_events)):
        b = base[int(rng.integers(len(base)))]
        e = draw("event", avoid=b["label"])
        e["at"] = b["at"] + int(rng.uniform(0.05 * sr, max(0.06 * sr, 0.8 * len(b["y"]))))
        if e["at"] + len(e["y"]) < n:
            e["overlaps"] = b["overlaps"] = 1
            items.append(e)
    return items


def draw_from(rng, events, others, sound):
    """`draw` for `place`: a random label, a random one of its sounds; `sound(x)` gives (samples, attack, source)."""

    def draw(kind, avoid=None):
        src = events if kind == "event" else others
        labels = sorted(x for x in src if x != avoid)
        lab = labels[int(rng.integers(len(labels)))]
        y, lead, source = sound(src[lab][int(rng.integers(len(src[lab])))])
        return {"kind": kind, "label": lab, "y": y, "lead": lead, "overlaps": 0, "source": source}

    return draw


def gain(y, power, snr, peak):
    """Gain that puts y `snr` dB over a bed of that power, and the SNR: lower where y would exceed `peak`."""
    g = np.sqrt(power / np.mean(y**2)) * 10 ** (snr / 20)
    top = np.abs(y).max()
    return (g, snr) if g * top <= peak else (peak / top, snr + 20 * np.log10(peak / (g * top)))


def write_long(out, mix, sr, items):
    """items: dicts kind,label,start,end (s),snr,overlaps,source. Writes audio, truth and details."""
    assert np.abs(mix).max() < 1, np.abs(mix).max()
    out.parent.mkdir(exist_ok=True)
    sf.write(out, mix, sr, subtype="PCM_16")
    det = [
        (i["kind"], i["label"], f"{i['start']:.3f}", f"{i['end']:.3f}", f"{i['snr']:.1f}", i["overlaps"], i["source"])
        for i in items
    ]
    write_csv(
        out.with_suffix(".csv"),
        ["file", "label", "start_s", "end_s"],
        [(out.name, d[1], d[2], d[3]) for d in det if d[0] == "event"],
    )
    write_csv(
        out.with_name(out.stem + ".details.csv"),
        ["kind", "label", "start_s", "end_s", "snr_db", "overlaps", "source"],
        det,
    )
    ev = [i for i in items if i["kind"] == "event"]
    return {
        "file": out.name,
        "seconds": round(len(mix) / sr),
        "rate": sr,
        "events": len(ev),
        "distractors": len(items) - len(ev),
        "overlapping": sum(i["overlaps"] for i in ev),
        "labels": Counter(i["label"] for i in ev),
    }


def make_recording(out, seconds, targets, others, n_events, overlap, bg, noises, seed, min_gap=0.4):
    """Place clips ({label: [path]}) over a background bed and write the audio, the truth and the details."""
    rng = np.random.default_rng(seed)
    mix = ambience(seconds * SR, bg, noises, rng)
    bed = mix.copy()
    cut = functools.cache(lambda path: (*hit(mono(path)), path.relative_to(DATA)))
    items = place(rng, len(mix), SR, draw_from(rng, targets, others, cut), n_events, overlap, min_gap)
    items.sort(key=lambda i: i["at"])
    for i in items:
        y, a, b = i["y"], i["at"], i["at"] + len(i["y"])
        g, snr = gain(y, np.mean(bed[a:b] ** 2.0), rng.uniform(0, 25), peak=0.6)
        mix[a:b] += (g * y).astype(np.float32)
        i.update(start=(a + i["lead"]) / SR, end=b / SR, snr=snr)
    return {**write_long(out, mix, SR, items), "bed_dbfs": round(float(10 * np.log10(np.mean(bed**2.0))), 1)}


def build_long():
    fresh("long"), fresh("tune")
    hits, says = pool("drums", "test"), pool("voices", "test")
    long, tune = DATA / "long", DATA / "tune"
    made = [
        make_recording(long / "drums_10min.wav", 600, hits, says, 110, 0.0, BG_A[:1] + BG_A[4:], [1], 21),
        make_recording(long / "drums_30min.wav", 1800, hits, says, 320, 0.15, BG_A[1:3], [1], 22),
        make_recording(long / "drums_60min.flac", 3600, hits, says, 640, 0.15, BG_A, [1], 23),
        make_recording(long / "voices_30min.wav", 1800, says, hits, 260, 0.0, BG_A[1:4], [1], 24, min_gap=0.6),
        make_recording(
            tune / "drums_tune.wav",
            600,
            pool("drums", "validation"),
            pool("voices", "validation"),
            120,
            0.1,
            BG_B,
            [0, 2],
            25,
        ),
        make_recording(
            tune / "voices_tune.wav",
            600,
            pool("voices", "validation"),
            pool("drums", "validation"),
            90,
            0.0,
            BG_B,
            [0, 2],
            26,
            min_gap=0.6,
        ),
    ]
    return {"recordings": made}


def run(steps):
    """Run the named steps of `--only`, by default all, and print the result of each as a line of JSON."""
    ap = argparse.ArgumentParser()
    ap.add_argument("--only", default=",".join(steps))
    a = ap.parse_args()
    for s in a.only.split(","):
        t = time.time()
        r = steps[s]()
        print(json.dumps({"step": s, "seconds": round(time.time() - t, 1), **r}, ensure_ascii=False), flush=True)


if __name__ == "__main__":
    run(
        {
            "drums": build_drums,
            "voices": build_voices,
            "letters": build_letters,
            "background": build_background,
            "tables": build_tables,
            "long": build_long,
        }
    )
