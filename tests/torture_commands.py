"""Campaigns against whole commands: odd options and tables, races, broken streams, hostile servers, signals.

Functions return the number of calls and a dictionary of defects: tracebacks, undocumented exit codes, hangs, unwanted
requests, processes that outlive a command, half-written files.
"""

import http.server
import os
import random
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from datetime import datetime
from pathlib import Path

import click
import pandas as pd
import psutil

import barn_owl as owl
from barn_owl.cli.main import barn_owl
from hostile_server import ACCEPTED, MOODS, hostile_server

CODES = (0, 1, 2, 130)
TIMEOUT_S = 120
NUMBERS = ("nan", "inf", "-inf", "-0", "1e308", "-1", "0", "9" * 400)
RUNS: dict[str, list[str]] = {
    "gather": ["clips", "-o", "OUT.csv"],
    "check": ["clips.csv"],
    "cut": ["night.flac", "-o", "OUT.csv"],
    "split": ["clips.csv", "-o", "OUT.csv"],
    "look": ["clips.csv"],
    "features": ["clips.csv", "-o", "OUT.csv"],
    "plan": ["clips.csv"],
    "train": ["clips.csv", "--run", "OUT", "--plan", "quick.toml", "--classifier", "nearest"],
    "evaluate": ["run"],
    "classify": ["run", "clips.csv", "-o", "OUT.csv"],
    "tag": ["run", "night.flac", "-o", "OUT.csv"],
    "score": ["events.csv", "truth.csv"],
    "adjust": ["run", "truth.csv"],
    "listen": ["run", "--microphone", "simulated:night.flac", "--speed", "inf"],
    "hours": ["kept.sqlite"],
    "review": ["events.csv", "night.flac", "--page", "OUT.html"],
    "find": ["clips/hum/rec0_00.wav", "--in", "night.flac", "-o", "OUT.csv"],
    "harvest": ["whole.csv", "-o", "OUT.csv"],
    "propose": ["clips.csv", "--model", "run", "-o", "OUT.csv"],
    "export": ["run", "-o", "OUT.npz"],
    "shrink": ["run", "--run", "OUT", "--share", "0.5"],
}
"""Arguments of a call of each command that succeeds, in the folder of `torture.prepared`."""
WRITES_TABLES = ("gather", "cut", "split", "features", "classify", "tag", "find")


class Defects(dict[str, str]):
    """Defects by their common part, with the first call."""

    def check(self, call: str, done: subprocess.CompletedProcess[str] | None) -> None:
        """Judge a finished call; None for a call that never ended."""
        if done is None:
            self.setdefault(f"{call.split()[0]}: does not end", call)
        elif "Traceback" in done.stderr or "Exception" in done.stderr or "Warning:" in done.stderr:
            last = done.stderr.strip().splitlines()[-1]
            self.setdefault(f"{call.split()[0]}: {last[:200]}", call)
        elif done.returncode not in CODES:
            self.setdefault(f"{call.split()[0]}: exit code {done.returncode}", call)


def ran(arguments: list[str], folder: Path) -> subprocess.CompletedProcess[str] | None:
    """Run a command to its end; None if it never ends."""
    command = [sys.executable, "-m", "barn_owl", *arguments]
    try:
        return subprocess.run(
            command, cwd=folder, capture_output=True, text=True, check=False, errors="replace",
            timeout=TIMEOUT_S, stdin=subprocess.DEVNULL, env={**os.environ, "OPENBLAS_NUM_THREADS": "1"},
        )  # fmt: skip
    except subprocess.TimeoutExpired:
        return None


def complete(folder: Path) -> None:
    """Add the files of the calls to the folder."""
    if (folder / "events.csv").exists():
        return
    truth = owl.read_clip_table(folder / "truth.csv")
    owl.write_clip_table(truth.assign(score=0.5), folder / "events.csv")
    eager = ["--threshold", "0.05", "--release-threshold", "0.02", "--min-known-probability", "0"]
    ran(["tag", "run", "nights", "-o", "e.csv", "--store", "kept.sqlite", *eager], folder)
    clips = owl.read_clip_table(folder / "clips.csv")
    owl.write_clip_table(clips.groupby("label").head(4), folder / "whole.csv")
    plan = owl.Plan(background=["still"], rehearsal={"minutes": 0}, pooling={"windows": 60}, mixtures={"count": 8})
    owl.write_plan(plan, folder / "quick.toml")


def written(arguments: list[str], number: int) -> list[str]:
    """Name the outputs of a call after its number."""
    return [word.replace("OUT", f"out-{number}") for word in arguments]


def all_at(calls: list[list[str]], folder: Path, defects: Defects) -> list[subprocess.CompletedProcess[str] | None]:
    """Run calls, two at a time."""
    with ThreadPoolExecutor(2) as threads:
        results = list(threads.map(lambda call: ran(call, folder), calls))
    for call, done in zip(calls, results, strict=True):
        defects.check(" ".join(word if len(word) < 60 else word[:20] + "…" for word in call), done)
    return results


def number_options(folder: Path, count: int, seed: int) -> dict:
    """Call every number option of every command with extreme values."""
    complete(folder)
    calls, defects = [], Defects()
    for name, arguments in RUNS.items():
        for parameter in barn_owl.get_command(click.Context(barn_owl), name).params:
            kinds = click.FloatRange | click.IntRange | click.types.FloatParamType | click.types.IntParamType
            if isinstance(parameter, click.Option) and isinstance(parameter.type, kinds):
                for value in NUMBERS:
                    given = [value] * parameter.nargs
                    calls.append([name, *arguments, parameter.opts[-1], *given])
    random.Random(seed).shuffle(calls)
    calls = [written(call, number) for number, call in enumerate(calls[:count])]
    all_at(calls, folder, defects)
    return {"calls": len(calls), "defects": defects}


@contextmanager
def visited() -> Iterator[tuple[int, list[str]]]:
    """Yield the port of a server on this machine, and the paths that are requested from it."""
    paths: list[str] = []

    class Handler(http.server.BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            paths.append(self.path)
            self.send_error(404)

        do_HEAD = do_GET  # noqa: N815

        def log_message(self, *_: object) -> None:
            pass

    with http.server.ThreadingHTTPServer(("127.0.0.1", 0), Handler) as server:
        threading.Thread(target=server.serve_forever, daemon=True).start()
        yield server.server_port, paths
        server.shutdown()


def urls_in_tables(folder: Path, count: int, seed: int) -> dict:
    """Put URLs, chained and broken URLs into each column of the tables that commands read."""
    complete(folder)
    rng, defects, calls = random.Random(seed), Defects(), []
    with visited() as (port, paths):
        names = [
            f"http://127.0.0.1:{port}/x.wav", f"zip://x.wav::http://127.0.0.1:{port}/y.zip", "reference://x",
            "tar://a::file:///f", "filecache::file:///f.flac", "http://[::1", f"simplecache::http://127.0.0.1:{port}/z",
            "file:///etc/passwd", "://", "s3://bucket/x.wav", "data:audio/wav;base64,AAAA",
        ]  # fmt: skip
        for name, arguments in RUNS.items():
            for table in {word for word in arguments if word.endswith(".csv") and not word.startswith("OUT")}:
                rows = pd.read_csv(folder / table, dtype=str, keep_default_na=False)
                for column in rows.columns:
                    for url in names:
                        own = f"table-{len(calls)}.csv"
                        odd = rows.copy()
                        odd.loc[odd.index[:: rng.choice((1, 3))], column] = url
                        odd.to_csv(folder / own, index=False)
                        calls.append([name, *(own if word == table else word for word in arguments)])
        rng.shuffle(calls)
        calls = [written(call, 10_000 + number) for number, call in enumerate(calls[:count])]
        all_at(calls, folder, defects)
    if paths:
        defects["a table made a request"] = ", ".join(sorted(set(paths)))
    return {"calls": len(calls), "defects": defects}


def races(folder: Path, count: int, seed: int) -> dict:
    """Run pairs of the same command at once, on the same output: a single, complete file or folder is left."""
    complete(folder)
    defects, calls = Defects(), 0
    shared = [*WRITES_TABLES, "train", "tag --store r.sqlite", "tag --store r-store", "tag --score-traces r-traces"]
    for turn in range(max(1, count // (2 * len(shared)))):
        for words in shared:
            name, *more = words.split()
            call = [name, *written(RUNS[name], 20_000 + turn), *more, "--force"]
            done = all_at([call, call], folder, defects)
            calls += 2
            codes = sorted(one.returncode if one else -1 for one in done)
            allowed = ([0, 0], [0, 1]) if name == "train" else ([0, 0],)
            if codes not in allowed:
                said = next(one.stderr for one in done if one and one.returncode)
                defects.setdefault(f"{words}: exit codes {codes}", said[-300:])
            if name in WRITES_TABLES:
                try:
                    owl.read_clip_table(folder / call[call.index("-o") + 1], may_be_empty=True)
                except owl.BarnOwlError as error:
                    defects.setdefault(f"{words}: {error}", " ".join(call))
        left = [path.name for path in folder.rglob(".*") if path.is_file()]
        if left:
            defects.setdefault("left behind", ", ".join(left))
    return {"calls": calls, "defects": defects}


def broken_streams(folder: Path, count: int, seed: int) -> dict:
    """Run every command with a full or closed standard output, a reader that leaves, and without standard input."""
    complete(folder)
    defects, calls = Defects(), 0
    endings = (
        "> /dev/full",
        ">&-",
        "2>&-",
        "2> /dev/full",
        "| head -c 1",
        "<&-",
        "--json > /dev/full",
        "--json | true",
    )
    jobs = [(name, ending) for name in RUNS for ending in endings]
    for number, (name, ending) in enumerate(jobs[:count]):
        words = " ".join(written(RUNS[name], 30_000 + number))
        text = f"{sys.executable} -m barn_owl {name} {words} {ending}"
        try:
            done = subprocess.run(
                ["bash", "-c", text], cwd=folder, capture_output=True, text=True, check=False, timeout=TIMEOUT_S
            )
        except subprocess.TimeoutExpired:
            done = None
        calls += 1
        defects.check(f"{name} {ending}", done)
    return {"calls": calls, "defects": defects}


def webhooks(_folder: Path, count: int, seed: int) -> dict:
    """Send events to a server whose mood changes; every event is counted, and none is lost."""
    from barn_owl.live import LiveEvent, webhook

    webhook.BACKOFF_S = 0.01
    rng, defects, sent = random.Random(seed), {}, 0
    path = _folder / "undelivered.jsonl"
    with hostile_server() as server:
        notifier = owl.live.http_notifier(f"http://127.0.0.1:{server.port}/", max_duration_s=0.5, undelivered=path)
        moods, vague = [], set()
        for number in range(min(count, 200)):
            server.mood = rng.choice((*MOODS, "", ""))
            moods.append(server.mood)
            if server.mood in ACCEPTED:
                vague.add(float(number))
            before = notifier.sent + notifier.failed
            notifier.notify(LiveEvent(float(number), number + 1.0, "hum", 0.5, datetime.now().astimezone()))
            sent += 1
            end = time.monotonic() + 30
            while notifier.sent + notifier.failed == before and time.monotonic() < end:
                time.sleep(0.005)
            if time.monotonic() > end:
                defects[f"never counted: {server.mood}"] = str(number)
        server.mood = ""
        notifier.close(60)
        if path.exists():
            again = owl.live.http_notifier(f"http://127.0.0.1:{server.port}/", undelivered=path)
            again.close(60)
        import json

        received = {json.loads(body)["start_s"] for body in server.bodies}
    lost = set(map(float, range(sent))) - received - vague
    if lost:
        defects["lost"] = str(sorted((number, moods[int(number)]) for number in lost))
    return {"calls": sent, "defects": defects}


def signals_to_servers(folder: Path, count: int, seed: int) -> dict:
    """End commands that run without end at random times, and count the processes that are left."""
    complete(folder)
    rng, defects, calls = random.Random(seed), {}, 0
    endless = {
        "listen": ["listen", "run", "--microphone", "simulated:night.flac", "--speed", "3", "--threshold", "0.2",
                   "--release-threshold", "0.1", "-o", "live.csv", "--run-command", "sh -c 'sleep 88 & sleep 88'"],
        "review": ["review", "events.csv", "night.flac", "--serve"],
        "tag": ["tag", "run", "nights", "-o", "t.csv", "--force", "--workers", "2"],
        "train": ["train", "clips.csv", "--run", "signals", "--force", "--plan", "quick.toml"],
    }  # fmt: skip
    for turn in range(min(count, 60)):
        name = list(endless)[turn % len(endless)]
        number = rng.choice((signal.SIGTERM, signal.SIGINT, signal.SIGHUP))
        process = subprocess.Popen(
            [sys.executable, "-m", "barn_owl", *endless[name]], cwd=folder, stdout=subprocess.DEVNULL,
            stderr=subprocess.PIPE, start_new_session=True,
        )  # fmt: skip
        time.sleep(rng.uniform(0.5, 8.0))
        mine = (
            {child.pid for child in psutil.Process(process.pid).children(recursive=True)}
            if process.poll() is None
            else set()
        )
        process.send_signal(number)
        calls += 1
        try:
            said = process.communicate(timeout=40)[1].decode(errors="replace")
        except subprocess.TimeoutExpired:
            process.kill()
            defects.setdefault(f"{name}: {number.name} does not end it", str(turn))
            continue
        if "Traceback" in said:
            defects.setdefault(f"{name}: {number.name}: {said.strip().splitlines()[-1]}", str(turn))
        time.sleep(1.0)
        left = [one for one in mine if psutil.pid_exists(one) and psutil.Process(one).status() != "zombie"]
        if left:
            defects.setdefault(f"{name}: {number.name} leaves {len(left)} processes", str(turn))
    return {"calls": calls, "defects": defects}


CAMPAIGNS: dict[str, Callable[[Path, int, int], dict]] = {
    "number options": number_options,
    "URLs in tables": urls_in_tables,
    "races": races,
    "broken streams": broken_streams,
    "webhooks": webhooks,
    "signals": signals_to_servers,
}
