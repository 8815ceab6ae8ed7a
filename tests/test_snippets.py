"""Every Python snippet of the README and the docs runs in a fresh process."""

import re
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

import barn_owl as owl

ROOT = Path(__file__).parent.parent
PREAMBLE = """
import functools, barn_owl
from barn_owl.learn import sources
quick = barn_owl.Plan(
    classifier="logistic", background=["water"], rehearsal={"minutes": 0}, pooling={"windows": 60},
    mixtures={"unknown": 0.0, "count": 16}, logistic={"penalty": 0.03}, training={"refit": 0},
)
real, sources.SYNTHETIC = barn_owl.Plan, 24
barn_owl.Plan = lambda **given: quick.but(**given)
barn_owl.suggest_plan = lambda *_, **__: type("Suggestion", (), {"plan": quick})
several = barn_owl.train_several
barn_owl.train_several = lambda *given, seeds, **more: several(*given, seeds=2, **more)
ranked = barn_owl.train_classifiers
barn_owl.train_classifiers = lambda *given, **more: ranked(*given, **{"classifiers": ["nearest"], **more})
"""
"""Shortens trainings; all else is as a reader has it."""


def snippets():
    for page in [ROOT / "README.md", *sorted((ROOT / "docs").rglob("*.md"))]:
        text = page.read_text(encoding="utf-8")
        for number, code in enumerate(re.findall(r"^```python\n(.*?)^```", text, re.DOTALL | re.MULTILINE), start=1):
            yield pytest.param(code, id=f"{page.stem}-{number}")


@pytest.fixture(scope="session")
def desk(demo, quay, shared):
    """The files that the how-to guides speak of."""

    def fill(folder):
        shutil.copytree(quay.clips, folder / "clips")
        for source, name in ((quay.recording, "night.flac"), (quay.recording, "quay_20260314_221500.flac")):
            shutil.copy(source, folder / name)
        shutil.copy(min((quay.clips / "hull-knock").glob("*.wav")), folder / "knock.wav")
        truth = owl.read_clip_table(quay.truth)
        owl.write_clip_table(truth.assign(file=str(folder / "night.flac")), folder / "truth.csv")
        clips = owl.gather_folder(folder / "clips", names="{group}_{take}").clips
        owl.write_clip_table(clips, folder / "clips.csv")
        for name in ("first", "second-run"):
            shutil.copytree(demo / "run", folder / name)
        eager = {"threshold": 0.3, "release_threshold": 0.15, "min_known_probability": 0.0}
        recordings = [folder / "quay_20260314_221500.flac"]
        owl.tag_archive(folder / "first", recordings, decoding=eager, store=folder / "months")

    return shared("desk", fill)


@pytest.mark.parametrize("code", list(snippets()))
def test_a_snippet_runs_in_a_fresh_process(code, desk, tmp_path):
    shutil.copytree(desk, tmp_path, dirs_exist_ok=True)
    code = code.replace('["first", "second"]', '["first", "second-run"]')
    done = subprocess.run(
        [sys.executable, "-c", PREAMBLE + code], cwd=tmp_path, capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert done.returncode == 0, done.stderr[-2000:]
