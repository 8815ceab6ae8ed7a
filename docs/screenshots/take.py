"""Retake the pictures of this folder from the demo data; run with ``make screenshots``."""

import io
import shutil
import subprocess
import sys
import tempfile
import threading
from collections.abc import Sequence
from datetime import UTC, datetime
from pathlib import Path

import numpy as np
import pandas as pd
from matplotlib.figure import Figure
from playwright.sync_api import sync_playwright
from rich.console import Console
from rich.live import Live
from rich.terminal_theme import MONOKAI

import barn_owl
from barn_owl.audio import read_audio, write_audio
from barn_owl.cli.common import Terminal
from barn_owl.cli.listen import Screen
from barn_owl.files import atomic_write

HERE = Path(__file__).parent
LINES, WIDTH = 40, 138
LISTENED_S = 92.0
COMPLETE_S, ANNOTATION_MS = 20.0, 3000
PICTURES = {
    "saltmarsh-quay/night.png": "night.png",
    "overview.png": "overview.png",
    "look/gallery.png": "gallery.png",
    "ranking/distributions.png": "distributions.png",
    "check.png": "check.png",
    "cuts.png": "cuts.png",
    "adjust.png": "adjust.png",
    "score.png": "score.png",
    "saltmarsh-quay/run/figures/curves.png": "curves.png",
    "small/shrink.png": "shrink.png",
    "found/search.png": "search.png",
}


def terminal_picture(command: str, text: str, path: Path) -> None:
    """Draw the last output lines of a command as a terminal."""
    lines = [f"$ {command}"]
    for line in text.rstrip().splitlines():  # a terminal wraps lines
        lines += [line[first : first + WIDTH] for first in range(0, max(len(line), 1), WIDTH)]
    if len(lines) > LINES:
        lines = [lines[0], "...", *lines[2 - LINES :]]
    figure = Figure(figsize=(12.8, 8.0), dpi=100, facecolor="#16202b")
    style = {"family": "DejaVu Sans Mono", "fontsize": 10.5, "color": "#fdf6e6", "va": "top", "parse_math": False}
    figure.text(0.012, 0.985, "\n".join(lines), linespacing=1.28, **style)
    with atomic_write(path) as beside:
        figure.savefig(beside)


def said_by(*arguments: str, folder: Path, code: int = 0, progress: bool = False) -> str:
    """Run a command and return its output; `progress` : with its progress lines first."""
    script = "from barn_owl.cli.main import main; main()"
    done = subprocess.run(  # noqa: S603 - our own command line
        [sys.executable, "-c", script, *arguments], cwd=folder, capture_output=True, text=True, check=False
    )
    if done.returncode != code:
        raise RuntimeError(done.stderr)
    return (done.stderr if progress else "") + done.stdout


def page_picture(
    page: Path | str, path: Path, place: str = "", *, keys: Sequence[str] = (), wait_ms: float = 0
) -> None:
    """Take a picture of a page, at its start or at a heading, `wait_ms` milliseconds after some keys."""
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=shutil.which("chromium"), args=["--no-sandbox"])
        opened = browser.new_page(viewport={"width": 1280, "height": 800})
        opened.goto(page.as_uri() if isinstance(page, Path) else page)
        opened.wait_for_timeout(wait_ms)
        for key in keys:
            opened.keyboard.press(key)
        if place:
            opened.evaluate(f"document.querySelector('{place}').scrollIntoView()")
        opened.wait_for_timeout(wait_ms)
        opened.screenshot(path=path)
        browser.close()


def live_picture(folder: Path, path: Path) -> None:
    """Draw the terminal of listen after a minute and a half of the night."""
    night = folder / "night.flac"
    blocks, rate_hz = barn_owl.audio.stream_audio(night, end_s=LISTENED_S), barn_owl.audio_info(night).rate_hz
    microphone = barn_owl.audio.SimulatedMicrophone(blocks, rate_hz, speed=float("inf"))
    began = datetime(2026, 3, 14, 22, 15, tzinfo=UTC)
    listener = barn_owl.Listener(barn_owl.load_model(folder / "run"), microphone, began=began)
    console = Console(record=True, width=110, file=io.StringIO())
    screen = Screen(Terminal(), listener, Live(console=console))
    for found in listener.steps():
        for event in found:
            screen.add(event)
        if listener.seconds >= LISTENED_S:
            break
    console.print(screen.drawn())
    page = folder / "live.html"
    text = console.export_html(inline_styles=True, theme=MONOKAI)
    page.write_text(text.replace("<body>", "<body style='background: #0c0c0c; padding: 2em; font-size: 1.25em'>"))
    page_picture(page, path)


def annotation_picture(folder: Path, path: Path) -> None:
    """Take a picture of the annotation page with marks and proposals; `folder` is from the demo."""
    night = folder / "night.flac"
    marks = barn_owl.annotation.MarkFile(folder / "marks.csv", [night])
    truth = barn_owl.read_clip_table(folder / "truth.csv")
    known = truth[(truth["label"] != "") & (truth["end_s"] < COMPLETE_S)]
    for number, row in enumerate(known.itertuples()):
        marks.add(barn_owl.annotation.Mark(
            mark=f"m{number}", file=str(night), start_s=row.start_s, end_s=row.end_s, label=row.label
        ))  # fmt: skip
    marks.add(barn_owl.annotation.Mark(mark="c", file=str(night), start_s=0.0, end_s=COMPLETE_S, status="complete"))
    events = barn_owl.read_events(folder / "events.csv")
    marks.propose(events[events["start_s"] >= COMPLETE_S])
    with barn_owl.show.AnnotationServer(
        marks, labels=sorted(set(known["label"])), title="Annotation of a night"
    ) as server:
        threading.Thread(target=server.serve, daemon=True).start()
        page_picture(server.address, path, keys=["n"] * (len(known) + 1), wait_ms=ANNOTATION_MS)
        server.stop()


def months_picture(folder: Path, path: Path) -> None:
    """Draw the output of tagging on two workers and of its measurement."""
    from distributed import LocalCluster

    night, rate_hz = read_audio(folder / "saltmarsh-quay" / "night.flac", rate_hz=16_000)
    for number in range(6):
        long = np.resize(np.roll(night, number * rate_hz), 20 * 60 * rate_hz)
        write_audio(
            folder / "months" / f"quay-{1 + number % 2}_2026050{1 + number // 2}_220000.flac",
            long,
            rate_hz,
            force=True,
        )
    with LocalCluster(n_workers=2, threads_per_worker=1, dashboard_address=":0", scheduler_port=0) as cluster:
        address = cluster.scheduler_address
        tag = ("tag", "saltmarsh-quay/run", "months", "--store", "kept", "--engine", address)
        said = said_by(*tag, folder=folder, progress=True)
    measure = ("tag", "saltmarsh-quay/run", "saltmarsh-quay/night.flac", "--measure")
    said += f"\n$ barn-owl {' '.join(measure)}\n{said_by(*measure, folder=folder)}"
    terminal_picture(f"barn-owl {' '.join(tag[:-1])} tcp://127.0.0.1:8786", said, path)


def weak_recordings(folder: Path) -> None:
    """Write recordings with a label somewhere in each, and their table."""
    clips = barn_owl.read_clip_table(folder / "clips.csv")
    rng, rows = np.random.default_rng(0), []
    water = [barn_owl.read_audio(file, rate_hz=16_000)[0] for file in clips.loc[clips["label"] == "water", "file"]]
    for label in sorted(set(clips["label"]) - {"water"}):
        own = list(clips.loc[clips["label"] == label, "file"])
        for number in range(6):
            samples = np.concatenate([0.3 * water[int(at)] for at in rng.permutation(len(water))])[: 16_000 * 40]
            for at, file in zip((3, 12, 25), own[3 * number :], strict=False):
                sound = barn_owl.read_audio(file, rate_hz=16_000)[0][: 16_000 * 4]
                samples[16_000 * at : 16_000 * at + len(sound)] += sound
            path = folder / "weak" / f"{label}_{number}.wav"
            barn_owl.write_audio(path, samples / max(1.0, float(np.abs(samples).max())), 16_000, force=True)
            rows.append({"file": str(path), "label": label})
    barn_owl.write_clip_table(pd.DataFrame(rows), folder / "weak.csv", force=True)


def loop_pictures(folder: Path) -> None:
    """Take pictures of listening, reviewing and harvesting; `folder` is from the demo."""
    live_picture(folder, HERE / "listen.png")
    annotation_picture(folder, HERE / "annotate.png")
    said_by("review", "events.csv", "night.flac", "--page", "review.html", "--force", folder=folder)
    page_picture(folder / "review.html", HERE / "review.png")
    weak_recordings(folder)
    harvest = ("harvest", "weak.csv", "-o", "harvested.csv", "--page", "harvested.html", "--force")
    said_by(*harvest, folder=folder)
    page_picture(folder / "harvested.html", HERE / "harvest.png")


def main() -> None:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        terminal_picture("make demo", said_by("demo", folder=folder), HERE / "demo.png")
        said_by("look", "saltmarsh-quay/night.flac", "-o", "overview.png", folder=folder)
        said_by("look", "saltmarsh-quay/clips.csv", "-o", "look", folder=folder)
        rank = ("features", "saltmarsh-quay/clips.csv", "--features", "mfcc,shape,level", "-o", "features.csv")
        rank += ("--rank", "ranking.csv", "--figures", "ranking")
        said_by(*rank, folder=folder)
        check = ("check", "saltmarsh-quay/clips.csv", "--figure", "check.png")
        said_by(*check, folder=folder, code=1)  # the demo has errors on purpose
        plan = ("plan", "saltmarsh-quay/clips.csv", "-o", "plan.toml")
        terminal_picture(f"barn-owl {' '.join(plan)}", said_by(*plan, folder=folder), HERE / "plan.png")
        knocks = ("--microphone", "simulated:hull-knock", "--speed", "1000", "--count-down", "0", "--keep-all")
        said_by(
            "record", "takes", "--label", "hull-knock", "--takes", "1", "--length-s", "80", *knocks, folder=folder
        )
        takes = "takes/hull-knock/hull-knock_0001.wav"
        said_by("cut", takes, "--max-gap-s", "0.4", "-o", "knocks.csv", "--figure", "cuts.png", folder=folder)
        page_picture(folder / "saltmarsh-quay/run/report.html", HERE / "report.png")
        months_picture(folder, HERE / "months.png")
        said_by("demo", "another", "--clips", "12", "--minutes", "15", "--seed", "1", folder=folder)
        adjust = ("adjust", "saltmarsh-quay/run", "another/truth.csv", "--figure", "adjust.png")
        said_by(*adjust, folder=folder)
        said_by("tag", "saltmarsh-quay/run", "saltmarsh-quay/night.flac", "-o", "events.csv", folder=folder)
        score = ("score", "events.csv", "saltmarsh-quay/truth.csv", "--figure", "score.png")
        said_by(*score, folder=folder)
        said_by("shrink", "saltmarsh-quay/run", "--share", "0.33", "--int8", "--run", "small", folder=folder)
        search = ("shrink", "saltmarsh-quay/clips.csv", "--device", "core-256k", "--minutes", "7", "--run", "found")
        said_by(*search, folder=folder)
        loop_pictures(folder / "saltmarsh-quay")
        for source, target in PICTURES.items():
            (HERE / target).write_bytes((folder / source).read_bytes())


if __name__ == "__main__":
    main()
