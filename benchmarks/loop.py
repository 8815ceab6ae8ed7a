"""Listening, finding, harvesting, proposing and labels that come later, on synthetic sounds.

python benchmarks/loop.py QUAY [listen,find,harvest,propose,later]; QUAY is a folder that barn-owl demo has written.
"""

import itertools
import sys
import tempfile
import time
import tracemalloc
from pathlib import Path

import numpy as np
import pandas as pd
from weak_archive import write_archive

import barn_owl as owl
from barn_owl.annotation.harvesting import sound_row
from barn_owl.annotation.similar_sounds import example_of
from barn_owl.classifiers.logistic import fit_logistic
from barn_owl.evaluate.predictions import predict
from barn_owl.runs.data import with_splits

SEEDS = 6
LATER, FEW = "halyard", 10


def listen(quay: Path) -> None:
    """Time from the end of an event to its line, in real time; memory and speed over a day."""
    model, night = owl.load_model(quay / "run"), quay / "night.flac"
    rate_hz = owl.audio_info(night).rate_hz
    begin, late = time.monotonic(), []
    microphone = owl.audio.SimulatedMicrophone(owl.audio.stream_audio(night, end_s=60.0), rate_hz)
    listener = owl.Listener(model, microphone)
    late = [time.monotonic() - begin - heard.end_s for heard in listener.events()]
    print(
        f"sound to line: {np.median(late):.2f} s median, {max(late):.2f} s at most; said {listener.latency_s:.2f} s"
    )
    samples, _ = owl.read_audio(night)
    hour = list(itertools.repeat(samples, round(3600 * rate_hz / len(samples))))
    for every_s in (0.4, 4.0):
        part = owl.audio.SimulatedMicrophone(iter([samples]), rate_hz, speed=float("inf"))
        begin = time.perf_counter()
        found = sum(1 for _ in owl.Listener(model, part, every_s=every_s).events())
        times = 600 / (time.perf_counter() - begin)
        print(f"looked at every {every_s:g} s: {times:.0f} times real time, {found} events")
    tracemalloc.start()
    peaks, microphone = [], owl.audio.SimulatedMicrophone(itertools.chain(*[hour] * 24), rate_hz, speed=float("inf"))
    listener, hours = owl.Listener(model, microphone, every_s=10.0, lead_s=1.0), 1
    for _ in listener.steps():
        if listener.seconds >= 3600 * hours:
            peaks.append(tracemalloc.get_traced_memory()[1] / 1e6)
            tracemalloc.reset_peak()
            hours += 1
    print(f"24 hours: peak memory of hour 1 {peaks[0]:.1f} MB, of hour 24 {peaks[-1]:.1f} MB")


def find(quay: Path) -> None:
    """Time to search an hour when features are there."""
    with tempfile.TemporaryDirectory() as name:
        path = Path(name) / "hour.wav"
        samples, _ = owl.read_audio(quay / "night.flac", rate_hz=16_000)
        owl.write_audio(path, np.tile(samples, 6), 16_000, force=True)
        truth = owl.read_clip_table(quay / "truth.csv")
        examples = truth[truth["label"] != ""].groupby("label").head(1)
        for run in ("first time", "features kept"):
            begin = time.perf_counter()
            owl.annotation.find_similar(examples, [path], cache=Path(name) / "cache", workers=1)
            print(f"{len(examples)} examples in an hour, {run}: {time.perf_counter() - begin:.1f} s")


def harvest(_quay: Path) -> None:
    """Precision of harvested clips by recall of the parts with the sound."""
    with tempfile.TemporaryDirectory() as name:
        for seed in range(3):
            recordings, truth = write_archive(Path(name) / str(seed), 100, seed)
            begin = time.perf_counter()
            clips = owl.harvest(recordings, per_recording=10**6, least=0.0, seed=seed).clips
            seconds, right, found = time.perf_counter() - begin, [], set()
            at_half = 1.0
            for row in clips.sort_values("score", ascending=False, kind="stable").itertuples():
                own = truth[truth["file"] == row.file]
                over = np.minimum(row.end_s - 0.1, own["end_s"]) - np.maximum(row.start_s + 0.1, own["start_s"])
                right.append(bool((over > 0.5 * (row.end_s - row.start_s - 0.2)).any()))
                found |= set(own.index[over > 0])
                if len(found) >= len(truth) / 2:
                    at_half = float(np.mean(right))
                    break
            print(f"archive {seed}: precision {at_half:.2f} at half of {len(truth)} events, {seconds:.0f} s")


def propose(quay: Path) -> None:
    """Balanced accuracy by the number of labels, proposed and random, on unseen recorders."""
    clips = owl.read_clip_table(quay / "clips.csv")
    rows, kept = [], []
    for number, row in clips.iterrows():
        try:
            rows.append(sound_row(example_of(row).levels))
            kept.append(number)
        except owl.errors.AudioError:
            continue
    clips, rows = clips.loc[kept].reset_index(drop=True), np.array(rows, dtype=np.float64)
    for name in ("random", "proposed"):
        curves = [_curve(clips, rows, seed, proposes=name == "proposed") for seed in range(SEEDS)]
        print(name, dict(zip(range(10, 121, 10), np.mean(curves, axis=0).round(3), strict=True)))


def _curve(clips: pd.DataFrame, rows: np.ndarray, seed: int, *, proposes: bool) -> list[float]:
    from barn_owl.annotation.active_learning import PRINCIPAL, SURE, covering, rarity

    rng = np.random.default_rng(seed)
    test = clips["group"].isin(rng.permutation(sorted(clips["group"].unique()))[:3]).to_numpy()
    labels = sorted(clips["label"].unique())
    number = clips["label"].map(labels.index).to_numpy()
    rows = (rows - rows[~test].mean(axis=0)) / (rows[~test].std(axis=0) + 1e-6)
    seen = (rows[~test] @ np.linalg.svd(rows[~test], full_matrices=False)[2][:PRINCIPAL].T).astype(np.float32)
    pool, known, unsure, curve = np.flatnonzero(~test), [], np.ones((~test).sum()), []
    while len(known) < 120:
        left = np.setdiff1d(np.arange(len(pool)), known)
        if proposes:
            order = np.concatenate([known, left]).astype(int)
            chosen, _ = covering(seen[order], unsure[order], len(known), 10, rng)
            known += list(left[chosen])
        else:
            known += list(rng.permutation(left)[:10])
        own = pool[known]
        found, _ = fit_logistic(rows[own], np.eye(len(labels))[number[own]], np.ones(len(own)), 0.02)
        logits = rows @ found[:-1] + found[-1]
        scores = np.exp(logits - logits.max(axis=1, keepdims=True))
        scores = (scores / scores.sum(axis=1, keepdims=True))[pool]
        first = np.sort(scores, axis=1)
        had = np.bincount(number[own], minlength=len(labels))
        unsure = (1 - (first[:, -1] - first[:, -2]) + SURE) * rarity(scores, had)
        right = logits[test].argmax(axis=1) == number[test]
        curve.append(float(np.mean([right[number[test] == label].mean() for label in np.unique(number[test])])))
    return curve


def later(quay: Path) -> None:
    """Recall of old labels and of a new label added with few clips, compared with a training on all clips."""
    clips = with_splits(owl.read_clip_table(quay / "clips.csv"), owl.Plan())
    test, new = clips[clips["split"] == "test"], clips[(clips["label"] == LATER) & (clips["split"] != "test")]
    few = new.groupby("group", group_keys=False).head(3).head(FEW).drop(columns="split")
    plan = owl.suggest_plan(clips).plan.but(background=["water"])
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        before = owl.train(clips[clips["label"] != LATER], folder / "before", plan)
        adopted = owl.runs.plan_from_model(plan, before.model, str(folder / "before"))
        runs = {
            "before": before, "later": owl.train(few, folder / "later", adopted),
            "in full": owl.train(clips, folder / "full", plan),
        }  # fmt: skip
        for kind, run in runs.items():
            said, _ = predict(run.model, test)
            right = said.assign(right=said["predicted"] == said["label"]).groupby("label")["right"].mean()
            print(f"{kind}: old labels {right.drop(LATER).mean():.3f}, {LATER} {right[LATER]:.3f}")


if __name__ == "__main__":
    parts = {"listen": listen, "find": find, "harvest": harvest, "propose": propose, "later": later}
    for part in sys.argv[2].split(",") if len(sys.argv) > 2 else parts:
        parts[part](Path(sys.argv[1]))
