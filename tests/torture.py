"""A campaign against the readers and the writing commands: damaged inputs, kills at random moments, a full disk.

    python tests/torture.py [--inputs 100000] [--kills 200] [--calls 1000] [--minutes 60] [--seed 0] [--report FILE]

Inputs are derived from seeds, so that a defect can be reproduced: ``--only READER --first N --inputs 1``. Readers run
in subprocesses with limits for time and memory. Defects: errors of foreign types, hangs of more than 20 s, more than
1 GB of memory, crashes. A killed command that is repeated must leave the same bytes as an undisturbed command.
"""

import argparse
import contextlib
import faulthandler
import hashlib
import io
import json
import multiprocessing
import multiprocessing.pool
import os
import random
import shutil
import signal
import subprocess
import sys
import tempfile
import time
import traceback
import warnings
import zipfile
from collections import Counter
from collections.abc import Callable, Iterator
from datetime import UTC, datetime
from pathlib import Path

import numpy as np
import pandas as pd
import soundfile

sys.path.insert(0, str(Path(__file__).parent))

import barn_owl as owl
import torture_commands
from barn_owl.errors import AudioError, BarnOwlError
from barn_owl.features.cache import FrameCache
from barn_owl.learn.checkpoint import Checkpoint, read_checkpoint
from barn_owl.live.undelivered import UndeliveredEvents
from barn_owl.runs import open_run, train
from helpers import RATE_HZ, small_plan, sound, write_folder

TIMEOUT_S, MAX_MB = 20, 1024
HOSTILE = [
    None, True, -1, 0, 1e308, -1e308, 2**63, 10**30, "", "\0", "x" * 5000, "../../etc", "\ud800", "=1+1", [], {},
    [[]], [0] * 2000, {"a": {"b": {}}}, 0.5, "nan", float("nan"), float("inf"),
]  # fmt: skip


# Damage


def mutated(content: bytes, rng: random.Random, other: bytes) -> bytes:
    """Damage bytes in up to eight places."""
    data = bytearray(content)
    for _ in range(rng.choice((1, 1, 2, 3, 8))):
        if not data:
            return bytes(data)
        at, kind = rng.randrange(len(data)), rng.randrange(9)
        if kind == 0:
            data[at] ^= 1 << rng.randrange(8)
        elif kind == 1:
            data[at] = rng.randrange(256)
        elif kind == 2:
            del data[at : at + rng.choice((1, 4, 100, len(data)))]
        elif kind == 3:
            data[at:at] = data[: rng.randrange(1, 200)]
        elif kind == 4:
            value = rng.choice((b"\xff" * 4, b"\0" * 4, b"\x7f\xff\xff\xff", b"\xff\xff\xff\x7f", b"\0" * 64))
            data[at : at + len(value)] = value
        elif kind == 5:
            first = rng.randrange(len(other)) if other else 0
            data[at:] = other[first : first + 5000]
        elif kind == 6:
            data[at:at] = rng.choice(
                (
                    b",",
                    b"\n",
                    b'"',
                    b"[" * 500,
                    b"{" * 500,
                    b"=",
                    b"\r",
                    b"\xe9",
                    b"\xef\xbb\xbf",
                    b"9" * 400,
                    b"9" * 5000,
                    b"[" * 100_000,
                    b'"\\ud800"',
                    b"::",
                    b"://",
                    b"1e308",
                    b"\0" * 64,
                )
            )
        elif kind == 7:
            del data[at:]
        else:
            data[at : at + 8] = rng.randbytes(8)
    return bytes(data)


def changed(value: object, rng: random.Random) -> object:
    """Change a place of a JSON value."""
    places: list[tuple[object, object]] = []

    def walk(one: object) -> None:
        items = one.items() if isinstance(one, dict) else enumerate(one) if isinstance(one, list) else ()
        for key, inner in items:
            places.append((one, key))
            walk(inner)

    value = json.loads(json.dumps(value))
    walk(value)
    for _ in range(rng.choice((1, 1, 2, 4))):
        where, key = rng.choice(places)
        kind = rng.randrange(4)
        if kind == 0 and isinstance(where, dict):
            where.pop(key, None)
        elif kind == 1 and isinstance(where, dict):
            where[str(rng.choice(HOSTILE))] = rng.choice(HOSTILE)
        elif kind == 2 and isinstance(where, dict) and isinstance(where.get(key), int | float):
            where[key] = where[key] * rng.choice((-1, 0, 2, 1000, 1e9))
        else:
            with contextlib.suppress(IndexError, KeyError):
                where[key] = rng.choice(HOSTILE)
    return value


def changed_model(content: bytes, rng: random.Random) -> bytes:
    """Change the header of a model, or its arrays, and leave the file itself sound."""
    size = int.from_bytes(content[:8], "little")
    outer, body = json.loads(content[8 : 8 + size]), bytearray(content[8 + size :])
    kind = rng.randrange(3)
    if kind == 0:
        inner = changed(json.loads(outer["__metadata__"]["barn_owl"]), rng)
        outer["__metadata__"]["barn_owl"] = json.dumps(inner)
    elif kind == 1:
        name = rng.choice([name for name in outer if name != "__metadata__"])
        place = slice(*outer[name]["data_offsets"])
        count = max(1, (place.stop - place.start) // 4)
        value = rng.choice((np.nan, np.inf, -np.inf, 1e38, 0.0, -1.0))
        wrong = np.full(count, value, dtype=np.float32).tobytes()[: place.stop - place.start]
        body[place] = wrong
    else:
        name = rng.choice([name for name in outer if name != "__metadata__"])
        if rng.random() < 0.3:
            outer["weights.more"] = outer[name]
        elif rng.random() < 0.5:
            outer[name]["shape"] = outer[name]["shape"][::-1]
        else:
            outer[name]["dtype"] = rng.choice(("I32", "F32", "U32", "BF16", "F16", "F8_E4M3"))
    header = json.dumps(outer).encode()
    return len(header).to_bytes(8, "little") + header + bytes(body)


# Readers


class Reader:
    """Seeds of a kind, and their reader."""

    def __init__(
        self,
        name: str,
        seeds: dict[str, bytes],
        read: Callable[[Path], object],
        change: Callable[[bytes, random.Random], bytes] | None = None,
    ) -> None:
        self.name, self.seeds, self.read, self._change = name, seeds, read, change

    def make(self, number: int, seed: int, folder: Path) -> Path:
        """Write input `number`."""
        rng = random.Random(f"{self.name}-{seed}-{number}")
        name, other = rng.choice(sorted(self.seeds)), rng.choice(sorted(self.seeds))
        content = self.seeds[name]
        if self._change is not None and rng.random() < 0.7:
            content = self._change(content, rng)
        else:
            content = mutated(content, rng, self.seeds[other])
        path = folder / f"input{Path(name).suffix}"
        path.write_bytes(content)
        return path


def json_lines(content: bytes, rng: random.Random) -> bytes:
    lines = [json.loads(line) for line in content.decode().splitlines()]
    at = rng.randrange(len(lines))
    lines[at] = changed(lines[at], rng)
    return "\n".join(json.dumps(line) for line in lines).encode()


def whole_json(content: bytes, rng: random.Random) -> bytes:
    return json.dumps(changed(json.loads(content), rng)).encode()


def cells(content: bytes, rng: random.Random) -> bytes:
    """Change cells of a CSV."""
    lines = [line.split(",") for line in content.decode("utf-8").splitlines()]
    for _ in range(rng.choice((1, 2, 5))):
        line = rng.choice(lines)
        at = rng.randrange(len(line))
        line[at] = str(rng.choice([*HOSTILE, "label", "1,5", '"', "1e400", "-0", "é", "=cmd|' /C calc'!A0"]))
    return "\n".join(",".join(line) for line in lines).encode("utf-8", "replace")


def settings_lines(content: bytes, rng: random.Random) -> bytes:
    """Change values of a TOML file."""
    lines = content.decode().splitlines()
    for _ in range(rng.choice((1, 2, 4))):
        at = rng.randrange(len(lines))
        key = lines[at].partition("=")[0].strip() or "x"
        values = [
            "-1",
            "0",
            "1e300",
            "[]",
            "{}",
            '""',
            "nan",
            "inf",
            "true",
            "[" * 400,
            "99999999999999999999",
            '"é"',
        ]
        lines[at] = f"{key} = {rng.choice(values)}"
    return "\n".join(lines).encode()


def zipped(content: bytes, rng: random.Random) -> bytes:
    """Change an array of an NPZ and leave the ZIP sound."""
    with np.load(io.BytesIO(content)) as kept:
        arrays = {name: kept[name] for name in kept.files}
    name = rng.choice(sorted(arrays))
    wrong = (
        np.array("text"),
        np.empty((0, 3)),
        np.full((2, 2, 2), np.nan),
        np.array(1e308),
        arrays[name].ravel()[:1],
    )
    arrays[name] = rng.choice(wrong)
    if rng.random() < 0.2:
        del arrays[name]
    out = io.BytesIO()
    np.savez(out, **arrays)
    return out.getvalue()


def readers(base: Path) -> list[Reader]:
    """Create all seeds below `base`, from synthetic sounds and two small models."""
    rng = np.random.default_rng(0)
    clips_folder = write_folder(base / "clips", seed=1, clips=6)
    clips = owl.gather_folder(clips_folder, names="{group}_{take}").clips
    owl.write_clip_table(clips, base / "clips.csv")
    runs = {}
    for classifier in ("cnn", "logistic", "trees", "mlp", "kernel", "nearest"):
        plan = small_plan(classifier).but(rehearsal={"minutes": 0}, training={"epochs": 2}, mixtures={"count": 8})
        runs[classifier] = train(clips, base / classifier, plan)

    models = {f"{name}.safetensors": (base / name / "model.safetensors").read_bytes() for name in runs}
    together = owl.runs.ensemble_of([runs["logistic"].model, runs["logistic"].model])
    together.save(base / "ensemble.safetensors")
    models["ensemble.safetensors"] = (base / "ensemble.safetensors").read_bytes()
    model, take = runs["cnn"].model, np.concatenate([sound(k, rng, 0.4) for k in ("hum", "tick", "hiss")])
    sounds = {}
    for ending in ("wav", "flac", "ogg", "aiff", "caf", "au", "w64", "mp3"):
        with contextlib.suppress(Exception):
            soundfile.write(base / f"take.{ending}", take, RATE_HZ)
            sounds[f"take.{ending}"] = (base / f"take.{ending}").read_bytes()
    soundfile.write(base / "wide.wav", np.stack([take, -take], axis=1), 44_100, subtype="FLOAT")
    sounds["wide.wav"] = (base / "wide.wav").read_bytes()
    file = str(base / "take.wav")
    events = pd.DataFrame(
        {"file": file, "start_s": [0.1, 0.5], "end_s": [0.3, 0.9], "label": ["hum", "tick"], "score": 0.9}
    )
    formats = {}
    for ending in ("csv", "tsv", "jsonl", "vtt", "srt", "parquet"):
        owl.write_events(events, base / f"events.{ending}", force=True)
        formats[f"events.{ending}"] = (base / f"events.{ending}").read_bytes()
    owl.archive.write_cues(file, events, base / "cues.wav", force=True)
    formats["cues.wav"] = (base / "cues.wav").read_bytes()
    tables = {
        "clips.csv": (base / "clips.csv").read_bytes(),
        "sheet.csv": "Datei;start_s;label\nclips/hum/rec0_00.wav;0,5;Möwe\n".encode("cp1252"),
        "wide.csv": (base / "clips.csv").read_text().encode("utf-16"),
    }
    clips.to_parquet(base / "clips.parquet")
    tables["clips.parquet"] = (base / "clips.parquet").read_bytes()
    owl.write_plan(small_plan("cnn"), base / "plan.toml")
    eager = {
        "decoding": owl.DecodingSettings(threshold=0.05, release_threshold=0.02),
        "workers": 1,
    }  # so that there are events to keep
    owl.tag_archive(model, [file], score_traces=base / "traces", workers=1)
    owl.tag_archive(runs["logistic"].model, [file], store=base / "kept.sqlite", **eager)
    owl.tag_archive(runs["logistic"].model, [file], store=base / "store", **eager)
    trace = owl.tag.read_trace(base / "traces" / "take.npz")
    trace.save(base / "trace.parquet")
    Checkpoint(arrays={"a": np.zeros(3, np.float32)}, numbers={"step": 1}, curves=[{"epoch": 1}]).save(
        base / "c.safetensors"
    )
    items = owl.annotation.review_items(events, [file], stretches=2)
    from barn_owl.annotation import item_key

    owl.annotation.add_answer(
        base / "answers.jsonl",
        owl.annotation.ReviewAnswer(item=item_key(items.to_dict("records")[0]), verdict="right", sounds=[]),
    )
    frames = owl.FrontEnd()
    owl.load_frames(clips.head(4), frames, cache=base / "cache")
    cached = {p.name: p.read_bytes() for p in sorted((base / "cache").rglob("*")) if p.is_file()}
    plain = owl.load_frames(clips.head(4), frames)[0]

    def hear(path: Path) -> None:
        owl.audio_info(path)
        owl.read_audio(path, rate_hz=16_000)
        owl.audio.file_facts(path)
        owl.archive.recording_start(path)
        owl.tag_recording(model, path)

    def use(path: Path) -> None:
        own = owl.load_model(path)
        own.score(np.zeros(8000, dtype=np.float32), 16_000)
        owl.tag_samples(own, take, RATE_HZ)

    def table(path: Path) -> None:
        owl.check_clips(owl.read_clip_table(path), audio=False)

    def gather(path: Path) -> None:
        owl.clips.gather_table(path, columns={}, audio_folder=base)

    def decide(path: Path) -> None:
        owl.tag.tag_trace(model, owl.tag.read_trace(path))

    def cache(path: Path) -> None:
        folder = path.parent / "cache"
        shutil.rmtree(folder, ignore_errors=True)
        own = folder / FrameCache(base / "cache", frames).folder.name
        own.mkdir(parents=True)
        for name, content in cached.items():
            (own / name).write_bytes(path.read_bytes() if name.endswith(path.suffix) else content)
        got = owl.load_frames(clips.head(4), frames, cache=folder)[0]
        assert all(np.array_equal(a, b) for a, b in zip(got.parts, plain.parts, strict=True)), "other frames"

    def run_file(path: Path) -> None:
        own = path.parent / "run"
        shutil.rmtree(own, ignore_errors=True)
        shutil.copytree(base / "logistic", own)
        names = {".csv": "predictions.csv", ".json": "scores.json", ".toml": "plan.toml"}
        shutil.copy(path, own / names[path.suffix])
        opened = open_run(own)
        opened.evaluate(split="test")
        _ = opened.provenance, opened.expectation, opened.model, opened.plan

    def store(path: Path) -> None:
        if path.suffix == ".sqlite":
            owl.archive.read_store(path)
            owl.archive.store_hours(path)
            return
        own = path.parent / "store"
        shutil.rmtree(own, ignore_errors=True)
        shutil.copytree(base / "store", own)
        target = next(own.rglob("*.parquet" if path.suffix == ".parquet" else "*.jsonl"))
        shutil.copy(path, target)
        owl.archive.read_store(own)
        owl.archive.store_hours(own)

    def compiled(path: Path) -> None:
        with path.open("rb") as file:
            done = subprocess.run([program], stdin=file, capture_output=True, timeout=TIMEOUT_S)
        assert done.returncode in (0, 1), f"exit code {done.returncode}: {done.stderr[-200:]!r}"
        if done.returncode:
            raise AudioError(done.stderr.decode(errors="replace"))

    def unsent(path: Path) -> None:
        UndeliveredEvents(path).close()

    device = Path(owl.device.__file__).with_name("devices").joinpath("core-64k.toml").read_bytes()
    line = json.dumps(owl.live.LiveEvent(1.0, 2.0, "hum", 0.5, datetime.now(UTC)).record())
    undelivered = f"{line}\n{line}\n".encode()
    in_c, program = [], base / "tag"
    if shutil.which("cc"):
        owl.device.write_c(model, base / "model.c")
        command = (
            "cc -O1 -fsanitize=undefined,address -fno-sanitize-recover=all -std=c99 model.c model_main.c -lm -o tag"
        )
        subprocess.run(command.split(), cwd=base, check=True)
        soundfile.write(base / "short.wav", take[:4000], RATE_HZ)
        in_c = [Reader("C program", {"short.wav": (base / "short.wav").read_bytes()}, compiled)]
    stored = {"kept.sqlite": (base / "kept.sqlite").read_bytes()}
    stored["events.parquet"] = next((base / "store").rglob("*.parquet")).read_bytes()
    stored["manifest.jsonl"] = next((base / "store").rglob("*.jsonl")).read_bytes()
    run_files = {
        name: (base / "logistic" / name).read_bytes() for name in ("predictions.csv", "scores.json", "plan.toml")
    }
    run_change = {".csv": cells, ".json": whole_json, ".toml": settings_lines}
    return [
        *in_c,
        Reader("sound", sounds, hear),
        Reader("models", models, use, changed_model),
        Reader("tables", {k: v for k, v in tables.items() if k == "clips.csv"}, table, cells),
        Reader("tables of others", tables, gather),
        Reader("events", formats, owl.read_events),
        Reader("events, JSON Lines", {"events.jsonl": formats["events.jsonl"]}, owl.read_events, json_lines),
        Reader("plans", {"plan.toml": (base / "plan.toml").read_bytes()}, owl.read_plan, settings_lines),
        Reader("traces", {"t.npz": (base / "traces" / "take.npz").read_bytes()}, decide, zipped),
        Reader("traces, Parquet", {"t.parquet": (base / "trace.parquet").read_bytes()}, decide),
        Reader("checkpoints", {"c.safetensors": (base / "c.safetensors").read_bytes()}, read_checkpoint),
        Reader(
            "answers", {"a.jsonl": (base / "answers.jsonl").read_bytes()}, owl.annotation.read_reviews, json_lines
        ),
        Reader("devices", {"d.toml": device}, owl.device.read_device, settings_lines),
        Reader("undelivered events", {"u.jsonl": undelivered}, unsent, json_lines),
        Reader("caches", cached, cache),
        Reader("stores", stored, store),
        Reader("runs", run_files, run_file, lambda c, r: _by_kind(c, r, run_files, run_change)),
    ]  # fmt: skip


def _by_kind(content: bytes, rng: random.Random, files: dict[str, bytes], changes: dict) -> bytes:
    name = next(name for name, own in files.items() if own == content)
    return changes[Path(name).suffix](content, rng)


# The campaign


def tortured(reader: Reader, numbers: range, seed: int, told, folder: Path) -> None:
    """Read inputs in a subprocess, and report how each ended."""
    warnings.simplefilter("ignore")
    import logging

    logging.disable(logging.CRITICAL)
    faulthandler.disable()
    sys.stderr = open(os.devnull, "w")  # noqa: SIM115, PTH123 - of this process
    for number in numbers:
        path = reader.make(number, seed, folder)
        told.send(("begin", number, ""))
        begin = time.monotonic()
        try:
            signal.alarm(TIMEOUT_S + 5)
            with np.errstate(all="ignore"):
                reader.read(path)
            how, why = "read", ""
        except BarnOwlError as error:
            how, why = "skipped", str(error)
        except BaseException as error:
            frames = traceback.extract_tb(error.__traceback__)
            ours = [f for f in frames if "barn_owl" in f.filename] or list(frames)
            how, why = (
                "defect",
                f"{type(error).__name__}: {str(error)[:200]} at {Path(ours[-1].filename).name}:{ours[-1].lineno}",
            )
        finally:
            signal.alarm(0)
        if time.monotonic() - begin > TIMEOUT_S:
            how, why = "defect", f"took {time.monotonic() - begin:.0f} s"
        told.send((how, number, why))
    peak = int(Path("/proc/self/status").read_text().split("VmHWM:")[1].split()[0]) // 1024
    told.send(("peak", peak, ""))
    told.close()


def _kind(why: str) -> str:
    """Identify an error by its class and place."""
    return f"{why.partition(':')[0]} at {why.rpartition(' at ')[2]}"


def campaign(reader: Reader, count: int, first: int, seed: int, seconds: float) -> dict:
    """Torture a reader with `count` inputs, or for this many seconds."""
    found: Counter[str] = Counter()
    defects: dict[str, str] = {}
    at, peak, end = first, 0, time.monotonic() + seconds
    context = multiprocessing.get_context("fork")
    while at < first + count and time.monotonic() < end:
        with tempfile.TemporaryDirectory() as folder:
            mine, theirs = context.Pipe(duplex=False)
            numbers = range(at, min(at + 500, first + count))
            process = context.Process(target=tortured, args=(reader, numbers, seed, theirs, Path(folder)))
            process.start()
            theirs.close()
            current = at
            while True:
                try:
                    how, number, why = mine.recv()
                except EOFError:
                    break
                if how == "peak":
                    peak = max(peak, number)
                    if number > MAX_MB:
                        found["defect"] += 1
                        defects.setdefault(f"{number} MB of memory", f"inputs {numbers.start} to {numbers.stop}")
                elif how == "begin":
                    current = number
                else:
                    found[how] += 1
                    at = number + 1
                    if how == "defect":
                        defects.setdefault(_kind(why), f"input {number}: {why}")
            process.join()
            if at < numbers.stop:  # the item it died on
                found["defect"] += 1
                defects.setdefault(f"the process died, exit code {process.exitcode}", f"input {current}")
                at = current + 1
    return {"inputs": sum(found.values()), **found, "peak_mb": peak, "defects": defects}


# Kills


def commands(base: Path) -> dict[str, list[str]]:
    """Writing commands, in a folder with ``clips``, ``clips.csv``, ``run`` and ``night.flac``."""
    owl.write_plan(small_plan("cnn").but(rehearsal={"minutes": 0}, mixtures={"count": 32}), base / "quick.toml")
    return {
        "gather": ["gather", "clips", "-o", "out.csv"],
        "check": ["check", "clips.csv", "-o", "findings.csv", "--fix", "fixed.csv", "--figure", "c.png"],
        "split": ["split", "clips.csv", "-o", "split.csv"],
        "cut": ["cut", "night.flac", "--windows", "--length-s", "2", "--write", "cut", "-o", "cut.csv"],
        "features": ["features", "clips.csv", "-o", "features.parquet"],
        "features of a file": ["features", "night.flac", "-o", "night.csv"],
        "plan": ["plan", "clips.csv", "-o", "plan.toml"],
        "look": ["look", "clips.csv", "-o", "looked"],
        "classify": ["classify", "run", "clips.csv", "-o", "named.csv"],
        "tag": ["tag", "run", "night.flac", "-o", "events.csv"],
        "tag, kept": ["tag", "run", "nights", "-o", "events.csv", "--store", "kept", "--score-traces", "traces"],
        "tag, SQLite": ["tag", "run", "nights", "-o", "events.jsonl", "--store", "kept.sqlite"],
        "adjust": ["adjust", "run", "truth.csv", "-o", "adjusted.safetensors"],
        "export": ["export", "run", "-o", "model.npz"],
        "train": ["train", "clips.csv", "--plan", "quick.toml", "--run", "trained"],
    }


def prepared(base: Path) -> None:
    """Create the files that the commands need."""
    write_folder(base / "clips", seed=1, clips=8)
    clips = owl.gather_folder(base / "clips", names="{group}_{take}").clips
    owl.write_clip_table(clips, base / "clips.csv")
    plan = small_plan("cnn").but(rehearsal={"minutes": 0}, mixtures={"count": 32})
    train(clips, base / "run", plan)
    rng, rows = np.random.default_rng(3), []
    (base / "nights").mkdir()
    for number in range(4):
        take = 0.01 * rng.standard_normal(40 * RATE_HZ).astype(np.float32)
        for at in range(2, 36, 5):
            kind = str(rng.choice(["hum", "hiss", "tick"]))
            piece = sound(kind, rng, 1.5)
            take[at * RATE_HZ : at * RATE_HZ + len(piece)] += piece
            if number == 0:
                rows.append({"file": "night.flac", "start_s": at, "end_s": at + 1.5, "label": kind})
        soundfile.write(base / "nights" / f"quay_2026050{number + 1}_220000.flac", take.clip(-1, 1), RATE_HZ)
    shutil.copy(base / "nights" / "quay_20260501_220000.flac", base / "night.flac")
    pd.DataFrame(rows).to_csv(base / "truth.csv", index=False)


CHANGING = ("provenance.json", "curves.csv", "_manifest", "report.html", "kept.sqlite", "summary.csv", ".png")
"""Files with times or names of writers, or databases, which are compared by meaning."""


def fingerprint(folder: Path) -> dict[str, str]:
    """Content of a folder, by file."""
    return {
        str(path.relative_to(folder)): hashlib.sha256(_settled(path)).hexdigest()
        for path in sorted(folder.rglob("*"))
        if path.is_file() and not any(part in str(path.relative_to(folder)) for part in CHANGING)
    }


def _settled(path: Path) -> bytes:
    content = path.read_bytes()
    if path.name == "model.safetensors" or path.suffix == ".safetensors":
        size = int.from_bytes(content[:8], "little")
        return content[8 + size :]  # the header contains the duration
    if path.suffix == ".npz":
        with zipfile.ZipFile(path) as inside:  # its entries have the time of day
            return b"".join(inside.read(name) for name in sorted(inside.namelist()))
    if path.name == "scores.json":
        return b""
    return content


def ran(arguments: list[str], folder: Path) -> subprocess.CompletedProcess[str]:
    """Run a command in a folder to its end."""
    given = [sys.executable, "-m", "barn_owl", *arguments]
    return subprocess.run(given, cwd=folder, capture_output=True, text=True, check=False)


@contextlib.contextmanager
def fresh_copy(base: Path) -> Iterator[Path]:
    """Yield a copy of a folder, always at the same place, since recordings are identified by path."""
    folder = base.with_name(f"{base.name}-copy")
    shutil.rmtree(folder, ignore_errors=True)
    shutil.copytree(base, folder)
    try:
        yield folder
    finally:
        shutil.rmtree(folder, ignore_errors=True)


def kill_once(base: Path, name: str, arguments: list[str], wanted: dict, took_s: float, rng: random.Random) -> str:
    """Kill a command at a random moment, repeat it, and return the fault of the result; blank if there is none."""
    with fresh_copy(base) as folder:
        given = [sys.executable, "-m", "barn_owl", *arguments]
        how = rng.choice((signal.SIGKILL, signal.SIGINT, signal.SIGTERM))
        process = subprocess.Popen(
            given, cwd=folder, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, start_new_session=True
        )
        wait_s = rng.uniform(0.3, max(0.5, took_s))
        with contextlib.suppress(subprocess.TimeoutExpired):
            process.wait(wait_s)
        if process.poll() is None:
            process.send_signal(how)
        try:
            said = process.communicate(timeout=30)[1].decode(errors="replace")
        except subprocess.TimeoutExpired:
            os.killpg(process.pid, signal.SIGKILL)
            return f"{how.name} after {wait_s:.2f} s: it did not end in 30 s"
        if how != signal.SIGKILL and "Traceback" in said:
            return f"{how.name} after {wait_s:.2f} s: a traceback: {said[-300:]}"
        time.sleep(1.5)
        if members(process.pid):
            os.killpg(process.pid, signal.SIGKILL)
            return f"{how.name} after {wait_s:.2f} s: processes outlived it"
        begun = (folder / "trained" / "plan.toml").is_file()
        again = [*arguments, "--resume" if name == "train" and begun else "--force"]
        done = ran(again, folder)
        if done.returncode not in (0, 1 if name == "check" else 0):
            return f"{how.name} after {wait_s:.2f} s: again it ended with {done.returncode}: {done.stderr[-300:]}"
        got = fingerprint(folder)
        if got != wanted:
            other = sorted({key for key in {*got, *wanted} if got.get(key) != wanted.get(key)})
            return f"{how.name} after {wait_s:.2f} s: other files: {', '.join(other[:4])}"
    return ""


def members(group: int) -> list[Path]:
    """Processes of a session, as folders of /proc, except zombies."""
    found = []
    for entry in Path("/proc").iterdir():
        if entry.name.isdigit():
            with contextlib.suppress(OSError, IndexError, ValueError):
                fields = (entry / "stat").read_text().rpartition(")")[2].split()
                if int(fields[2]) == group and fields[0] != "Z":
                    found.append(entry)
    return found


def kills(base: Path, count: int, seed: int, seconds: float) -> dict:
    """Kill writing commands `count` times in all."""
    rng, defects, done = random.Random(seed), {}, 0
    requested = commands(base)
    wanted, took = {}, {}
    for name, arguments in requested.items():
        with fresh_copy(base) as folder:
            begin = time.monotonic()
            plain = ran(arguments, folder)
            took[name] = time.monotonic() - begin
            if plain.returncode not in (0, 1 if name == "check" else 0):
                defects[name] = f"it fails on its own: {plain.stderr[-300:]}"
            wanted[name] = fingerprint(folder)
    end = time.monotonic() + seconds
    names = [name for name in requested if name not in defects]
    while done < count and time.monotonic() < end:
        name = names[done % len(names)]
        why = kill_once(base, name, requested[name], wanted[name], took[name], rng)
        done += 1
        if why:
            defects.setdefault(f"{name}: {why}", f"kill {done}")
    return {"kills": done, "commands": len(requested), "defects": defects}


# A full disk

WRITTEN_TO = ("-o", "--run", "--store", "--fix", "--figure", "--write", "--score-traces")
"""Options before the output file."""


def full_disk(base: Path) -> dict:
    """Run writing commands on a disk of 300 kB; {} where none can be mounted."""
    requested, defects, skipped = commands(base), {}, 0
    with tempfile.TemporaryDirectory() as place:
        disk = Path(place)
        mount = subprocess.run(
            ["mount", "-t", "tmpfs", "-o", "size=300k", "none", str(disk)], capture_output=True, check=False
        )
        if mount.returncode:
            return {"skipped": "no small disk can be mounted here"}
        try:
            for name, arguments in requested.items():
                (disk / "fill").write_bytes(b"x" * 250_000)
                pairs = zip(["", *arguments], arguments, strict=False)
                outputs = [str(disk / one) if before in WRITTEN_TO else one for before, one in pairs]
                done = ran(outputs, base)
                if done.returncode not in (0, 1, 2) or "Traceback" in done.stderr:
                    defects[name] = done.stderr[-300:]
                elif (
                    done.returncode and not any(word in done.stderr for word in ("space", "full")) and name != "check"
                ):
                    defects[name] = f"does not say that the disk is full: {done.stderr[-200:]}"
                skipped += bool(done.returncode)
                left = [path.name for path in disk.rglob(".*") if path.is_file()]
                if left:
                    defects[f"{name}, left behind"] = ", ".join(left)
                for path in disk.iterdir():
                    shutil.rmtree(path) if path.is_dir() else path.unlink()
        finally:
            subprocess.run(["umount", str(disk)], check=False)
    return {"commands": len(requested), "told": skipped, "defects": defects}


def main(arguments: list[str] | None = None) -> int:
    """Run the campaign, print the defects, and return their number."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--inputs", type=int, default=100_000)
    parser.add_argument("--kills", type=int, default=200)
    parser.add_argument(
        "--calls", type=int, default=1000, help="of commands with odd options, tables and streams, at most"
    )
    parser.add_argument("--seed", type=int, default=0)
    parser.add_argument("--first", type=int, default=0, help="number of the first input")
    parser.add_argument("--only", help="this reader only")
    parser.add_argument("--minutes", type=float, default=60.0, help="for the readers, and for the kills")
    parser.add_argument("--report", type=Path)
    requested = parser.parse_args(arguments)
    found: dict = {"seed": requested.seed, "readers": {}}
    with tempfile.TemporaryDirectory() as name:
        base = Path(name)
        if requested.inputs:
            known = readers(base)
            every = [one for one in known if requested.only in (None, one.name)]
            if not every:
                parser.error(
                    f"there is no reader {requested.only!r}; there are {', '.join(one.name for one in known)}"
                )
            each = max(1, requested.inputs // len(every))
            with multiprocessing.pool.ThreadPool(2) as pool:
                seconds = 60 * requested.minutes * 2 / len(every)
                jobs = [(one, each, requested.first, requested.seed, seconds) for one in every]
                for one, result in zip(every, pool.starmap(campaign, jobs, chunksize=1), strict=True):
                    found["readers"][one.name] = result
                    print(json.dumps({one.name: result}), flush=True)
        if requested.kills:
            (base / "killed").mkdir()
            prepared(base / "killed")
            found["kills"] = kills(base / "killed", requested.kills, requested.seed, 60 * requested.minutes)
            print(json.dumps(found["kills"]), flush=True)
            found["full disk"] = full_disk(base / "killed")
            print(json.dumps(found["full disk"]), flush=True)
        if requested.calls:
            (base / "called").mkdir()
            prepared(base / "called")
            for name, campaign_of in torture_commands.CAMPAIGNS.items():
                found[name] = campaign_of(base / "called", requested.calls, requested.seed)
                print(json.dumps({name: found[name]}), flush=True)
    parts = [*found["readers"].values(), *(part for name, part in found.items() if name not in ("seed", "readers"))]
    defects = [defect for part in parts for defect in part.get("defects", ())]
    total = sum(one["inputs"] for one in found["readers"].values())
    calls = sum(part.get("calls", 0) for part in parts)
    print(f"{total} inputs, {found.get('kills', {}).get('kills', 0)} kills, {calls} calls: {len(defects)} defects")
    if requested.report:
        requested.report.write_text(json.dumps(found, indent=1) + "\n")
    return len(defects)


if __name__ == "__main__":
    sys.exit(min(main(), 100))
