"""Every command of the how-to guides, the tutorial and the README, run in order on synthetic data."""

import importlib
import os
import re
import shlex
import shutil
import subprocess
import sys
from pathlib import Path

import click
import numpy as np
import pandas as pd
import pytest

from barn_owl.annotation import Mark, MarkFile
from barn_owl.audio import read_audio, write_audio
from barn_owl.cli import train as train_command
from barn_owl.cli.main import COMMANDS, GUIDES, run
from barn_owl.clips import gather_folder, write_clip_table
from barn_owl.demo import write_harbor
from barn_owl.demo.sounds import EVENTS, RATE_HZ
from barn_owl.learn import unlabeled
from helpers import small_plan

BARN_OWL = str(Path(sys.executable).with_name("barn-owl"))
ROOT = Path(__file__).parent.parent
PAGES = [
    f"docs/how-to/{name}.md"
    for name in (
        "gather-and-clean", "look-and-listen", "features", "train", "choose-a-classifier", "few-clips",
        "keyword-spotting", "evaluate", "tag", "annotate", "adjust", "unknown-sounds", "archives-and-clusters",
        "live", "review-and-active-learning", "small-devices", "unusual-sounds", "put-to-work",
        "another-estimator", "questions", "troubleshooting",
    )
]  # fmt: skip
"""The how-to guides in the order of the menu; later guides may use results of earlier guides."""
SIMULATED = ["--microphone", "simulated:hull-knock", "--keep-all", "--speed", "1000", "--count-down", "0"]
"""Option of `record` without a sound card."""
PLAYED = ["--microphone", "simulated:night.flac", "--speed", "inf", "--stop-after-s", "20"]
"""Option of `listen` without a sound card."""


def commands(page: str) -> list[list[str]]:
    """The words of each command in the shell blocks of a page."""
    text = (ROOT / page).read_text(encoding="utf-8")
    blocks = re.findall(r"^ *```sh\n(.*?)^ *```", text, re.DOTALL | re.MULTILINE)
    lines = "".join(blocks).replace("\\\n", " ").splitlines()
    words = [shlex.split(line, comments=True) for line in lines]
    found = []
    for line in filter(None, words):
        while "&&" in line:
            at = line.index("&&")
            found.append(line[:at])
            line = line[at + 1 :]
        found.append(line)
    return found


def write_inputs(quay) -> None:
    """Files that the guides assume in the working folder."""
    rng = np.random.default_rng(0)
    shutil.copytree(quay.clips, "my-clips")
    shutil.copytree(quay.clips.parent, "saltmarsh-quay")
    for folder in ("their-clips/bell", "their-clips/test", "new-clips", "recordings", "archive", "nights"):
        Path(folder).mkdir(parents=True)
    bells = sorted(Path("my-clips/bell-buoy").iterdir())
    for number in range(3):
        knock = EVENTS["bell-buoy"](rng)
        write_audio(f"their-clips/bell/shed_{number}.wav", 0.3 * knock / np.abs(knock).max(), RATE_HZ)
        shutil.copy(bells[number], "new-clips")
    shutil.copy(bells[0], "their-clips/test")
    gaps = [np.pad(EVENTS["hull-knock"](rng), (RATE_HZ, RATE_HZ)) for _ in range(4)]
    write_audio("knocks.wav", 0.3 * np.concatenate(gaps) + 0.001 * rng.standard_normal(sum(map(len, gaps))), RATE_HZ)
    shutil.copy(min(Path("my-clips/hull-knock").glob("*.wav")), "knock.wav")
    for name in ("night.flac", "other-night.flac", "recordings/quay.flac", "archive/quay_20260314_221500.flac"):
        shutil.copy(quay.recording, name)
    shutil.copy(quay.recording, "nights/night.flac")
    truth = pd.read_csv(quay.truth)
    truth.to_csv("truth.csv", index=False)
    truth.assign(file="other-night.flac").to_csv("other-truth.csv", index=False)
    named = truth[truth["label"].notna()]
    for name in ("marked.csv", "marked-by-ben.csv"):
        annotate_by_hand(name, "night.flac")
    sheet = named.assign(filename="quay.flac").rename(
        columns={"start_s": "onset", "end_s": "offset", "label": "class"}
    )
    sheet[["filename", "onset", "offset", "class"]].to_csv("sheet.csv", index=False)
    named[["file", "start_s", "end_s", "label"]].to_csv("night-clips.csv", index=False)
    clips = gather_folder("my-clips", names="{group}_{take}").clips
    write_clip_table(clips, "new-clips.csv")
    write_clip_table(clips.assign(label=clips["label"].where(clips["label"] != "winch", "crane")), "mine.csv")
    known = gather_folder("my-clips").clips
    more = known.head(4).assign(file=[str(path) for path in sorted(Path("their-clips").rglob("*.wav"))[:4]])
    write_clip_table(pd.concat([known, more]), "grown.csv")
    guide = (ROOT / "docs/how-to/gather-and-clean.md").read_text(encoding="utf-8")
    (changes,) = re.findall(r"^```toml\n(\[clips\].*?)^```", guide, re.DOTALL | re.MULTILINE)
    Path("changes.toml").write_text(changes, encoding="utf-8")
    write_clip_table(clips.head(1).assign(correct_label="foghorn"), "corrections.csv")
    write_clip_table(clips[clips["label"] == "winch"].assign(label="creak"), "creaks.csv")
    Path("answers.jsonl").write_text(
        '{"item": "night.flac 1.000 2.000 winch", "verdict": "wrong"}\n', encoding="utf-8"
    )
    Path("bin").mkdir()
    Path("bin/logger").write_text("#!/bin/sh\n", encoding="utf-8")
    Path("bin/logger").chmod(0o755)
    weak = []
    for label in ("foghorn", "winch", "hull-knock"):
        sounds = [read_audio(path, rate_hz=16_000)[0] for path in sorted(Path("my-clips", label).iterdir())[:3]]
        for number in range(4):
            samples = 0.001 * rng.standard_normal(16_000 * 20)
            for at, one in enumerate(sounds):
                samples[80_000 * at + 16_000 :][: min(len(one), 60_000)] += one[:60_000]
            samples[-32_000:-16_000] += 0.05 * rng.standard_normal(16_000)  # sound of all recordings
            write_audio(f"weak/{label}_{number}.wav", samples, 16_000)
            weak.append({"file": f"weak/{label}_{number}.wav", "label": label})
    write_clip_table(pd.DataFrame(weak), "recordings.csv")
    for label, source in zip(("yes", "no", "stop", "other"), sorted(Path("my-clips").iterdir()), strict=False):
        shutil.copytree(source, f"sounds/{label}")
    shutil.copytree("my-clips/water", "sounds/background")


@pytest.fixture(scope="module")
def harbor(tmp_path_factory):
    """As few clips as can be trained on, a minute and a half of night."""
    return write_harbor(tmp_path_factory.mktemp("harbor") / "quay", clips_per_label=5, minutes=1.5)


def add_false_alarms(path: str) -> None:
    """Add events to an empty table, since a network of a single epoch may find none."""
    truth = pd.read_csv("truth.csv")
    free = [at for at in np.arange(2, 88, 2.5) if ((truth["end_s"] < at - 1.2) | (truth["start_s"] > at + 1.5)).all()]
    wrong = [("night.flac", at, at + 0.3, "winch", 0.9) for at in free]
    rows = pd.DataFrame(wrong, columns=["file", "start_s", "end_s", "label", "score"])
    before = pd.read_csv(path)
    pd.concat([before, rows] if len(before) else [rows], ignore_index=True).to_csv(path, index=False)


def annotate_by_hand(path: str, recording: str) -> None:
    """Write the table of someone who marked all events of the first minute."""
    marks = MarkFile(path, [recording])
    truth = pd.read_csv("truth.csv").query("end_s < 60")
    for number, row in enumerate(truth[truth["label"].notna()].itertuples()):
        times = {"start_s": row.start_s, "end_s": row.end_s}
        marks.add(Mark(mark=f"m{number}", file=recording, label=row.label, **times))
    marks.add(Mark(mark="all", file=recording, start_s=0.0, end_s=60.0, status="complete"))
    marks.write_table()


@pytest.fixture
def small(monkeypatch):
    """Plans that train in a second; all else is as it is."""
    fitted = train_command._plan
    more = {name: getattr(small_plan("cnn"), name).model_dump(exclude_unset=True) for name in ("cnn", "pooling")}
    more |= {
        "training": {"epochs": 1, "refit": 1},
        "mixtures": {"count": 16},
        "rehearsal": {"minutes": 0.5, "decide": False},
    }
    # An untrained network is certain of nothing, but must find events here.
    more |= {"decoding": {"threshold": 0.02, "release_threshold": 0.01}}
    more |= {"trees": {"rounds": 5}, "kernel": {"width": 1.2, "landmarks": 100}}
    monkeypatch.setattr(unlabeled, "ACTIVE", 0.02)
    monkeypatch.setattr(train_command, "_plan", lambda *arguments: fitted(*arguments).but(**more))


@pytest.mark.guide
@pytest.mark.parametrize(
    "pages", [PAGES, ["README.md"], ["docs/tutorial/from-clips-to-events.md"]], ids=lambda pages: pages[0]
)
def test_all_commands_run_in_order(pages, harbor, tmp_path, monkeypatch, small, capsys):
    monkeypatch.chdir(tmp_path)
    monkeypatch.setenv("HOME", str(tmp_path))
    monkeypatch.setenv("PATH", f"{tmp_path / 'bin'}{os.pathsep}{os.environ['PATH']}")
    write_inputs(harbor)
    done, failed = 0, []
    for words in [words for page in pages for words in commands(page)]:
        if words[0] == "cp":
            shutil.copy(*words[1:])
        if words[0] != "barn-owl":
            continue
        arguments = [str(Path(word).expanduser()) if word.startswith("~") else word for word in words[1:]]
        arguments += SIMULATED if arguments[0] == "record" else []
        arguments += PLAYED if arguments[0] == "listen" and "--microphone" not in arguments else []
        arguments += (
            ["--min-score", "0", "--per-recording", "1"] if arguments[0] == "harvest" else []
        )  # so few are not sure
        if "--serve" in arguments:  # it ends when someone ends it
            continue
        if arguments[0] == "annotate":
            annotate_by_hand(arguments[arguments.index("-o") + 1], arguments[1])
            continue
        if "--minutes" in arguments:  # shorter for the test
            arguments[arguments.index("--minutes") + 1] = "0.02"
        code = run(arguments)
        said = capsys.readouterr()
        if arguments[:3] == ["tag", "first", "night.flac"] and code == 0:
            add_false_alarms("events.csv")
        done += 1
        if code and (code, arguments[0]) != (1, "check"):  # that clips are not in order is no failure of the command
            failed.append(f"{shlex.join(words)}\n{said.err}")
    assert not failed, "\n".join(failed)
    assert done >= 5


def test_options_that_the_pages_name_are_there():
    known = {
        name: {option for parameter in command.params for option in (*parameter.opts, *parameter.secondary_opts)}
        for name in COMMANDS
        if (command := importlib.import_module(f"barn_owl.cli.{name}").command)
    }
    every = {option for own in known.values() for option in own} | {"--help", "--version"}
    for page in ("README.md", *sorted(str(path.relative_to(ROOT)) for path in (ROOT / "docs").rglob("*.md"))):
        for words in commands(page):
            if words[0] == "barn-owl" and words[1] in known:
                named = {word.split("=")[0] for word in words[2:] if word.startswith("--")}
                assert named <= known[words[1]] | {"--help"}, f"{page}: {shlex.join(words)}"
        text = (ROOT / page).read_text(encoding="utf-8")
        inline = set(re.findall(r"`(--[a-z][a-z0-9-]+)", text))
        assert inline <= every, f"{page}: {sorted(inline - every)}"


@pytest.mark.parametrize("command", COMMANDS)
def test_help_ends_with_its_how_to_guide(command, capsys):
    assert run([command, "--help"]) == 0
    said = " ".join(capsys.readouterr().out.split())
    if command == "demo":  # the tutorial explains it
        return
    assert said.endswith(f"How-to guide: docs/how-to/{GUIDES[command]}.md")
    assert f"docs/how-to/{GUIDES[command]}.md" in PAGES


@pytest.mark.parametrize("command", COMMANDS)
def test_help_begins_with_a_short_imperative_and_explains_every_option(command):
    one = importlib.import_module(f"barn_owl.cli.{command}").command
    assert one.help.split("\n")[0] == COMMANDS[command]
    assert len(COMMANDS[command]) <= 70
    assert all(option.help for option in one.params if isinstance(option, click.Option))


def test_every_page_is_in_the_menu_and_the_guides_are_short():
    menu = (ROOT / "mkdocs.yml").read_text(encoding="utf-8")
    for path in (ROOT / "docs").rglob("*.md"):
        assert str(path.relative_to(ROOT / "docs")) in menu, path
    for page in PAGES:
        assert len((ROOT / page).read_text(encoding="utf-8").splitlines()) < 130


@pytest.mark.parametrize("shell", ["bash", "zsh"])
def test_shells_complete_commands_options_and_values(shell):
    def complete(*words):
        requested = {"COMP_WORDS": shlex.join(["barn-owl", *words]), "COMP_CWORD": str(len(words))}
        environment = os.environ | requested | {"_BARN_OWL_COMPLETE": f"{shell}_complete"}
        done = subprocess.run([BARN_OWL], env=environment, capture_output=True, text=True, check=True)
        return set(re.split(r"[,\n]", done.stdout))

    assert "train" in complete("tr")
    assert "--classifier" in complete("train", "--class")
    assert {"cnn"} == complete("train", "--classifier", "c") - {"plain", "", "_"}
    text = subprocess.run(
        [BARN_OWL],
        env=os.environ | {"_BARN_OWL_COMPLETE": f"{shell}_source"},
        capture_output=True,
        text=True,
        check=True,
    ).stdout
    assert "_barn_owl_completion" in text
    if shutil.which(shell):  # the shell itself takes it
        there = {"bash": "complete -p barn-owl", "zsh": "print $_comps[barn-owl]"}[shell]
        start = {"bash": "", "zsh": "autoload -U compinit; compinit -D; "}[shell]
        said = subprocess.run([shell, "-c", f"{start}{text}\n{there}"], capture_output=True, text=True, check=True)
        assert "_barn_owl_completion" in said.stdout
