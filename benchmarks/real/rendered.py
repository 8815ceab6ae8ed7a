"""Build the rendered problems from ``$REAL_SOUNDS/raw2`` (see fetch.sh); fixed seeds, sorted inputs.

usage: rendered.py [--only instruments,commands]; recorded.py comes first: background and ambience are from there

instruments : notes of 8 instruments from 7 sets of samples; group = set
commands : 8 command words, other words and background, by speech synthesizers; group = speaker (engine and voice)
Each step also writes its long recordings to long2/ and tune2/.
"""

import re
import struct
import subprocess
import tempfile
from collections import Counter, defaultdict
from pathlib import Path

import numpy as np
import soundfile as sf
import soxr
from recorded import (
    BG_A,
    BG_B,
    DATA,
    ambience,
    draw_from,
    fresh,
    gain,
    hit,
    loud_part,
    place,
    run,
    tables,
    write_csv,
    write_long,
)

RAW2 = DATA / "raw2" / "usr" / "share"
LONG, TUNE = DATA / "long2", DATA / "tune2"


# ------------------------------------------------------------------------------------------------- shared
def bed(seconds, sources, noises, rng, sr, piece=600, lap=2.0, level=-50.0):
    """ambience in pieces of 10 min joined with cross-fades (less memory at 44.1 kHz)."""
    n, k = int(seconds * sr), int(lap * sr)
    out = np.zeros(n, np.float32)
    up = np.sin(np.linspace(0, np.pi / 2, k)).astype(np.float32)
    for a in range(0, n, piece * sr):
        m = min(piece * sr + k, n - a)
        x = ambience(m, sources, noises, rng, sr, level)
        if a:
            x[:k] *= up
        if a + m < n:
            x[-k:] *= up[::-1]
        out[a : a + m] += x
    return out


def scatter(out, sr, seconds, events, others, n_events, overlap, sources, noises, seed, snr=(0, 25), min_gap=0.4):
    """Place sounds at random over a bed. events, others: {label: [(samples, source)]}, 10 % distractors."""
    rng = np.random.default_rng(seed)
    mix = bed(seconds, sources, noises, rng, sr)
    quiet = mix.copy()
    cut = {}

    def sound(x):
        if id(x) not in cut:
            cut[id(x)] = (*hit(x[0], sr), x[1])
        return cut[id(x)]

    items = place(rng, len(mix), sr, draw_from(rng, events, others, sound), n_events, overlap, min_gap)
    for i in items:
        y, a, b = i["y"], i["at"], i["at"] + len(i["y"])
        g, s = gain(y, np.mean(quiet[a:b].astype(float) ** 2), rng.uniform(*snr), peak=0.5)
        mix[a:b] += (g * y).astype(np.float32)
        i.update(start=(a + i["lead"]) / sr, end=b / sr, snr=s)
    return write_long(out, mix, sr, sorted(items, key=lambda i: i["start"]))


# ------------------------------------------------------------------------------------------------- instruments
SF = {
    "fluid": RAW2 / "sounds/sf2/FluidR3_GM.sf2",
    "musescore": RAW2 / "sounds/sf3/MuseScore_General_Full.sf3",
    "a320u": RAW2 / "sounds/sf2/A320U.sf2",
    "timgm6mb": RAW2 / "sounds/sf2/TimGM6mb.sf2",
    "gmbank": RAW2 / "sounds/sf2/sf_GMbank.sf2",
    "generaluser": RAW2 / "minuet/soundfonts/GeneralUser-v1.47.sf2",
    "freepats": RAW2 / "midi/freepats",
}
FONT_SPLIT = {
    "fluid": "train",
    "musescore": "train",
    "a320u": "train",
    "timgm6mb": "validation",
    "gmbank": "validation",
    "generaluser": "test",
    "freepats": "test",
}
# label: (General MIDI programs, lowest, highest key)
INSTR = {
    "piano": ((0, 0, 1), 28, 98),
    "guitar": ((24, 25), 40, 79),
    "violin": ((40,), 55, 95),
    "cello": ((42,), 36, 71),
    "trumpet": ((56,), 54, 82),
    "oboe": ((68,), 58, 86),
    "clarinet": ((71,), 50, 86),
    "flute": ((73,), 60, 93),
}
# Clips per label and font. Raw samples were compared: musescore's cello and timgm6mb's oboe are generaluser's and are
# left out; fluid and musescore, timgm6mb and gmbank share most others and stay in one split.
PER = {"fluid": 12, "musescore": 9, "a320u": 9, "timgm6mb": 5, "gmbank": 5, "generaluser": 10, "freepats": 10}
PER_X = {
    ("musescore", "cello"): 0,
    ("fluid", "cello"): 16,
    ("a320u", "cello"): 14,
    ("timgm6mb", "oboe"): 0,
    ("gmbank", "oboe"): 10,
}
# distractors: (program or None for the drum channel, keys)
OTHER_SOUNDS = {
    "drum": (None, (36, 38, 42, 45, 46, 48, 49, 51, 56)),
    "choir": (53, range(48, 73)),
    "ocarina": (79, range(60, 85)),
    "xylophone": (13, range(65, 97)),
    "timpani": (47, range(40, 56)),
    "accordion": (21, range(53, 80)),
    "tuba": (58, range(30, 54)),
}
SLOT = 8.0


def midi(notes):
    """Type 0 file, 960 ticks a second; note k at 1 + SLOT * k seconds.

    notes : (program or None, key, velocity, seconds)."""
    ev = []
    for k, (prog, key, vel, dur) in enumerate(notes):
        t, ch = 1 + SLOT * k, 9 if prog is None else 0
        if prog is not None:
            ev.append((t - 0.2, bytes([0xC0, prog])))
        ev += [(t, bytes([0x90 | ch, key, vel])), (t + dur, bytes([0x80 | ch, key, 64]))]
    ev.append((1 + SLOT * len(notes), bytes([0xB0, 120, 0])))
    body, last = b"\0\xff\x51\x03\x07\xa1\x20", 0
    for t, b in sorted(ev, key=lambda e: e[0]):
        tick = round(t * 960)
        d, v = tick - last, b""
        v = bytes([d & 127])
        while d := d >> 7:
            v = bytes([d & 127 | 128]) + v
        body, last = body + v + b, tick
    body += b"\0\xff\x2f\0"
    return b"MThd" + struct.pack(">IHHH", 6, 0, 1, 480) + b"MTrk" + struct.pack(">I", len(body)) + body


def render(font, notes, rate, reverb):
    """Samples (frames, 2) of each note, from 50 ms before its start to just before the next one."""
    with tempfile.TemporaryDirectory() as t:
        m, w = Path(t) / "n.mid", Path(t) / "n.wav"
        m.write_bytes(midi(notes))
        if font == "freepats":
            cfg = (DATA / "raw2/etc/timidity/freepats.cfg").read_text()
            (Path(t) / "c.cfg").write_text(re.sub(r"(?m)^dir .*$", f"dir {SF[font]}", cfg))
            cmd = [
                "timidity",
                "-c",
                f"{t}/c.cfg",
                "-Ow",
                "-s",
                str(rate),
                "-A60",
                "-EFchorus=d",
                "-EFreverb=f,40" if reverb else "-EFreverb=d",
                "-EFdelay=d",
                "--preserve-silence",
                "-o",
                str(w),
                str(m),
            ]
        else:
            cmd = [
                "fluidsynth",
                "-ni",
                "-q",
                "-g",
                "0.6",
                "-r",
                str(rate),
                "-R",
                str(int(reverb)),
                "-C",
                "0",
                "-O",
                "s16",
                "-T",
                "wav",
                "-F",
                str(w),
                str(SF[font]),
                str(m),
            ]
        r = subprocess.run(cmd, stdin=subprocess.DEVNULL, capture_output=True, text=True)
        assert w.exists(), (cmd, r.stdout[-500:], r.stderr[-500:])
        x, sr = sf.read(w, always_2d=True)
    assert sr == rate
    out = []
    for k in range(len(notes)):
        a = int((1 + SLOT * k - 0.05) * rate)
        y = x[a : a + int((SLOT - 0.1) * rate)]
        out.append(np.pad(y, ((0, max(0, int(0.5 * rate) - len(y))), (0, 0))))
    return out


def trim_note(x, rate, limit=4.0):
    """Cut a render (frames, 2) where it is 50 dB down, at `limit` s at most; None if silent, clipped or broken."""
    m = x.mean(1)
    peak = np.abs(x).max()
    if (
        not np.isfinite(x).all()
        or peak < 10 ** (-45 / 20)
        or (np.abs(x) > 0.999).mean() > 1e-3
        or abs(m.mean()) > 0.02
    ):
        return None
    a, b = loud_part(m, 50.0, rate, rise=35.0)
    a30, b30 = loud_part(m, 30.0, rate)
    if b30 - a30 < 0.08 * rate:
        return None
    a = max(0, a - int(0.01 * rate))
    b = min(max(b, a + int(0.5 * rate)), a + int(limit * rate), len(x))
    y, f = x[a:b].copy(), int(0.03 * rate)
    y[-f:] *= np.linspace(1, 0, f)[:, None]
    return y


def pick_notes(label, n, rng):
    """n notes with different keys and velocities, short and long."""
    progs, lo, hi = INSTR[label]
    keys = np.concatenate([rng.permutation(np.arange(lo, hi + 1)) for _ in range(1 + n // (hi - lo))])[:n]
    return [
        (
            int(rng.choice(progs)),
            int(k),
            int(rng.integers(45, 124)),
            round(float(np.exp(rng.uniform(np.log(0.3), np.log(3)))), 2),
        )
        for k in keys
    ]


def notes_of(font, want, rng):
    """Render and trim: {label: [(samples, note, rate, reverb)]}; `want`: {label: count}.

    A third more is rendered, and broken notes are dropped."""
    todo = defaultdict(list)
    for lab in sorted(want):
        for note in pick_notes(lab, want[lab] + want[lab] // 3 + 1, rng) if want[lab] else ():
            todo[int(rng.choice([22050, 44100, 48000])), bool(rng.random() < 0.5)].append((lab, note))
    got, bad = defaultdict(list), Counter()
    for (rate, rev), rows in sorted(todo.items()):
        for (lab, note), x in zip(rows, render(font, [r[1] for r in rows], rate, rev), strict=True):
            y = trim_note(x, rate)
            if y is None:
                bad[lab] += 1
            else:
                got[lab].append((y, note, rate, rev))
    for lab in want:
        order = rng.permutation(len(got[lab]))
        got[lab] = [got[lab][i] for i in order[: want[lab]]]
        assert len(got[lab]) == want[lab], (font, lab, len(got[lab]), want[lab], bad[lab])
    return got, bad


def build_instruments():
    d = fresh("instruments")
    rows, part, info, bad = [], {}, [], {}
    for i, font in enumerate(SF):
        rng = np.random.default_rng([31, i])
        got, bad[font] = notes_of(font, {lab: PER_X.get((font, lab), PER[font]) for lab in INSTR}, rng)
        todo = [(lab, *g) for lab in sorted(got) for g in got[lab]]
        (d / "audio" / font).mkdir(parents=True)
        for k, j in enumerate(rng.permutation(len(todo))):
            lab, y, note, rate, rev = todo[j]
            mono = rng.random() < 0.5
            y = y.mean(1, keepdims=True) if mono else y
            y = y / np.abs(y).max() * 10 ** (rng.uniform(-18, -1) / 20)
            f = f"audio/{font}/{k:03d}.{'flac' if rng.random() < 0.3 else 'wav'}"
            sf.write(d / f, y, rate, subtype="PCM_16")
            rows.append((f, lab, font))
            part[f] = FONT_SPLIT[font]
            info.append((f, lab, *note, rate, y.shape[1], int(rev), f"{len(y) / rate:.2f}"))
    write_csv(
        d / "notes.csv",
        ["file", "label", "program", "key", "velocity", "held_s", "rate", "channels", "reverb", "seconds"],
        info,
    )
    out = tables("instruments", rows, part)
    out["dropped_renders"] = {f: dict(b) for f, b in bad.items() if b}
    recordings = (
        (("generaluser", "freepats"), 32, "instruments_30min.flac", LONG, 1800, 320, 20, 0.15, BG_A, [1]),
        (("timgm6mb", "gmbank"), 33, "instruments_tune.flac", TUNE, 600, 100, 15, 0.1, BG_B, [0, 2]),
    )
    return {**out, "recordings": long_instruments(recordings)}


def long_instruments(recordings, sr=44100):
    made = []
    for fonts, seed, name, folder, seconds, n, each, over, bg, noises in recordings:
        ev, ot = defaultdict(list), defaultdict(list)
        for i, font in enumerate(fonts):
            rng = np.random.default_rng([seed, i])
            notes = [
                (lab, nt)
                for lab in sorted(INSTR)
                if PER_X.get((font, lab), 1)
                for nt in pick_notes(lab, each + 5, rng)
            ]
            notes += [
                (
                    lab,
                    (
                        prog,
                        int(rng.choice(list(keys))),
                        int(rng.integers(60, 120)),
                        round(float(rng.uniform(0.3, 1.5)), 2),
                    ),
                )
                for lab, (prog, keys) in sorted(OTHER_SOUNDS.items())
                for _ in range(5)
            ]
            for (lab, nt), x in zip(notes, render(font, [n_[1] for n_ in notes], sr, False), strict=True):
                y = trim_note(x, sr)
                to = ev if lab in INSTR else ot
                if y is not None and len(to[lab]) < (i + 1) * (each if lab in INSTR else 5):
                    to[lab].append(
                        (y.mean(1), f"{font}:{'drum' if nt[0] is None else nt[0]}:{nt[1]}:v{nt[2]}:{nt[3]}s")
                    )
        made.append(scatter(folder / name, sr, seconds, ev, ot, n, over, bg, noises, seed))
    return made


# ------------------------------------------------------------------------------------------------- commands
TARGETS = ["stop", "start", "left", "right", "open", "lights", "music", "volume"]


def spoken(part):
    """Lines of a part of speech.txt."""
    text = Path(__file__).with_name("speech.txt").read_text(encoding="utf-8")
    return text.split(f"[{part}]\n")[1].split("\n[")[0].splitlines()


WORDS, UNSEEN, SENTENCES = spoken("words"), spoken("unseen"), spoken("sentences")
# speaker: (split, engine, voice). One speaker is one group: kal and slt exist in two engines and stay together.
SPEAKERS = [
    ("en-us_m3", "train", "espeak", "en-us+m3"),
    ("en-gb_f2", "train", "espeak", "en-gb+f2"),
    ("scotland_m1", "train", "espeak", "en-gb-scotland+m1"),
    ("rp_f4", "train", "espeak", "en-gb-x-rp+f4"),
    ("en-us_f5", "train", "espeak", "en-us+f5"),
    ("caribbean_m7", "train", "espeak", "en-029+m7"),
    ("en-us_klatt2", "train", "espeak", "en-us+klatt2"),
    ("lancaster_f1", "train", "espeak", "en-gb-x-gbclan+f1"),
    ("awb", "train", "flite", "awb"),
    ("ked", "train", "festival", "ked_diphone"),
    ("nyc_m5", "validation", "espeak", "en-us-nyc+m5"),
    ("kal", "validation", "flite", "kal16"),
    ("kal", "validation", "festival", "kal_diphone"),
    ("rms", "test", "flite", "rms"),
    ("slt", "test", "flite", "slt"),
    ("slt", "test", "festival", "cmu_us_slt_arctic_hts"),
]


def speak(engine, voice, jobs):
    """jobs: (text, speed, pitch) with speed and pitch around 1; returns [(samples, rate)]."""
    out = []
    with tempfile.TemporaryDirectory() as t:
        scm = [f"(voice_{voice})"]
        for k, (text, speed, pitch) in enumerate(jobs):
            w = f"{t}/{k}.wav"
            if engine == "espeak":
                cmd = [
                    "espeak-ng",
                    "-v",
                    voice,
                    "-s",
                    str(round(160 * speed)),
                    "-p",
                    str(round(50 + 120 * (pitch - 1))),
                    "-w",
                    w,
                    text,
                ]
            elif engine == "flite":
                base = {"kal16": 95, "awb": 130, "rms": 100, "slt": 170}[voice]
                cmd = [
                    "flite",
                    "-voice",
                    voice,
                    "--setf",
                    f"duration_stretch={1 / speed:.3f}",
                    "--setf",
                    f"int_f0_target_mean={base * pitch:.1f}",
                    "-t",
                    text,
                    "-o",
                    w,
                ]
            else:
                scm += [
                    f"(Parameter.set 'Duration_Stretch {1 / speed:.3f})",
                    f'(set! u (Utterance Text "{text}"))',
                    "(utt.synth u)",
                    f'(utt.save.wave u "{w}" \'riff)',
                ]
                continue
            subprocess.run(cmd, check=True, stdin=subprocess.DEVNULL, capture_output=True)
        if engine == "festival":
            (Path(t) / "j.scm").write_text("\n".join(scm) + "\n")
            subprocess.run(
                ["festival", "-b", f"{t}/j.scm"], check=True, stdin=subprocess.DEVNULL, capture_output=True
            )
        for k, (_, speed, _) in enumerate(jobs):
            x, r = sf.read(f"{t}/{k}.wav")
            if voice.endswith("hts"):  # ignores the stretch: play faster or slower instead
                x = soxr.resample(x, r, r / (1 + 0.5 * (speed - 1)))
            assert len(x) > 0.15 * r, (engine, voice, jobs[k])
            assert np.abs(x).max() > 0.01, (engine, voice, jobs[k])
            out.append((x, r))
    return out


def speech_part(x, rate, drop=32.0):
    """x from 5 ms before the level is within `drop` dB of its maximum to the last such moment."""
    a, b = loud_part(x, drop, rate, rise=drop)
    return a, b


def variants(rng, n):
    return [(float(s), float(p)) for s, p in zip(rng.uniform(0.8, 1.25, n), rng.uniform(0.85, 1.18, n), strict=True)]


def build_commands():
    d = fresh("commands")
    for w in WORDS + UNSEEN:
        assert w not in TARGETS
    for s in SENTENCES:
        assert not set(re.findall("[a-z]+", s.lower())) & {*TARGETS, "write", "light"}, s
    rows, part, info = [], {}, []
    for k, (who, split, engine, voice) in enumerate(SPEAKERS):
        rng = np.random.default_rng([41, k])
        n = {"train": 4, "validation": 5, "test": 6}[split]
        words = [WORDS[i] for i in rng.permutation(len(WORDS))[: 16 if split != "test" else 10]]
        if split == "test":
            words += [UNSEEN[i] for i in rng.permutation(len(UNSEEN))[:10]]
        jobs = [(lab, lab) for lab in TARGETS for _ in range(n)] + [("other", w) for w in words]
        ends = [str(rng.choice([".", "!", "?", "."])) for _ in jobs]
        said = speak(
            engine,
            voice,
            [(w.capitalize() + e, *v) for (_, w), e, v in zip(jobs, ends, variants(rng, len(jobs)), strict=True)],
        )
        (d / "audio" / who).mkdir(parents=True, exist_ok=True)
        for j in rng.permutation(len(jobs)):
            (lab, w), (x, r) = jobs[j], said[j]
            a, b = speech_part(x, r, 45)
            a, b = max(0, a - int(rng.uniform(0, 0.15) * r)), min(len(x), b + int(rng.uniform(0, 0.15) * r))
            rate = int(rng.choice([16000, 22050]))
            y = soxr.resample(x[a:b], r, rate)
            y = y / np.abs(y).max() * 10 ** (rng.uniform(-20, -1) / 20)
            y = y + 10 ** (rng.uniform(-85, -60) / 20) * rng.standard_normal(len(y))  # a recorder's noise floor
            f = f"audio/{who}/{engine}_{sum(i[3] == engine and i[2] == who for i in info):03d}.wav"
            sf.write(d / f, y, rate, subtype="PCM_16")
            rows.append((f, lab, who))
            part[f] = split
            info.append((f, lab, who, engine, voice, w, rate, f"{len(y) / rate:.2f}"))
    # background clips: other sources for the test split; none of the validation sources in train
    (d / "audio" / "background").mkdir()
    sides = [("train", BG_B[:4], 10), ("validation", BG_B[4:], 8), ("test", BG_A, 6)]
    for k, (split, srcs, n) in enumerate(sides):
        for i, src in enumerate(srcs):
            rng = np.random.default_rng([42, k, i])
            x = ambience(60 * 16000, [src], [[0, 2], [2], [1]][(i + k) % 3], rng, level=-40)
            for q in range(n):
                m, rate = int(rng.uniform(0.4, 1.5) * 16000), int(rng.choice([16000, 22050]))
                a = int(rng.integers(len(x) - m))
                y = soxr.resample(x[a : a + m].astype(float), 16000, rate)
                y = y / np.abs(y).max() * 10 ** (rng.uniform(-40, -3) / 20)
                f = f"audio/background/{src}_{q:02d}.wav"
                sf.write(d / f, y, rate, subtype="PCM_16")
                rows.append((f, "background", src))
                part[f] = split
                info.append((f, "background", src, "", "", "", rate, f"{len(y) / rate:.2f}"))
    write_csv(d / "words.csv", ["file", "label", "group", "engine", "voice", "word", "rate", "seconds"], info)
    out = tables("commands", rows, part)
    return {
        **out,
        "recordings": [
            talk(LONG / "commands_20min_a.wav", 1200, "test", 43, BG_A[1:4], [1]),
            talk(LONG / "commands_20min_b.wav", 1200, "test", 44, [BG_A[0], BG_A[4]], [1]),
            talk(TUNE / "commands_tune.wav", 600, "validation", 45, BG_B, [0, 2]),
        ],
    }


def talk(out, seconds, split, seed, sources, noises, sr=16000):
    """Speech of the split's speakers over a bed: turns of one speaker with sentences, other words and, at 45 % of the
    places, a command word, 0.12-0.7 s apart, longer pauses between turns. Only the commands are events."""
    rng = np.random.default_rng(seed)
    voices = [s for s in SPEAKERS if s[1] == split]
    plan, t = [], 1.0
    while t < seconds - 12:  # (voice, text, kind, label), times follow later
        v, (speed, pitch) = int(rng.integers(len(voices))), variants(rng, 1)[0]
        for _ in range(int(rng.integers(3, 9))):
            u = rng.random()
            if u < 0.45:
                lab = TARGETS[int(rng.integers(len(TARGETS)))]
                plan.append((v, lab.capitalize() + str(rng.choice([".", "!"])), "event", lab, speed, pitch))
            elif u < 0.7:
                w = (WORDS + UNSEEN)[int(rng.integers(len(WORDS + UNSEEN)))]
                plan.append((v, w.capitalize() + ".", "distractor", "word:" + w, speed, pitch))
            else:
                plan.append((v, SENTENCES[int(rng.integers(len(SENTENCES)))], "distractor", "sentence", speed, pitch))
            t += {"event": 0.9, "distractor": 0.9}[plan[-1][2]] if plan[-1][3] != "sentence" else 3.0
        plan.append(None)
        t += 2.0
    said = {}
    for v in range(len(voices)):
        mine = [i for i, p in enumerate(plan) if p and p[0] == v]
        said_by = speak(*voices[v][2:], [(plan[i][1], plan[i][4], plan[i][5]) for i in mine])
        for i, (x, r) in zip(mine, said_by, strict=True):
            a, b = speech_part(x, r)
            lead = int(0.02 * r)
            y = soxr.resample(x[max(0, a - lead) : b + lead], r, sr)
            a, b = speech_part(y, sr)
            said[i] = (y, a + int(0.005 * sr), b)
    mix = bed(seconds, sources, noises, rng, sr)
    quiet, items, at, snr = mix.copy(), [], 1.0, rng.uniform(5, 25)
    for i, p in enumerate(plan):
        if p is None:
            at, snr = at + rng.uniform(0.8, 3.5), rng.uniform(5, 25)
            continue
        y, a, b = said[i]
        k = int(at * sr)
        if k + len(y) > len(mix) - sr:
            break
        s = float(np.clip(snr + rng.uniform(-2, 2), 5, 25))
        g, s = gain(y[a:b], np.mean(quiet[k + a : k + b].astype(float) ** 2), s, peak=0.6)
        mix[k : k + len(y)] += (g * y).astype(np.float32)
        items.append(
            {
                "kind": p[2],
                "label": p[3],
                "start": (k + a) / sr,
                "end": (k + b) / sr,
                "snr": s,
                "overlaps": 0,
                "source": f"{voices[p[0]][2]}:{voices[p[0]][3]}",
            }
        )
        at += len(y) / sr + rng.uniform(0.12, 0.7)
    return write_long(out, mix, sr, items)


if __name__ == "__main__":
    run({"instruments": build_instruments, "commands": build_commands})
