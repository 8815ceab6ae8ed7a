"""Users of the package: scripts, the README's Python, the reference."""

import ast
import importlib
import inspect
import re
import tomllib
from pathlib import Path
from types import SimpleNamespace

import numpy as np
import pandas as pd
import pytest
from sklearn.linear_model import LogisticRegression
from sklearn.metrics import balanced_accuracy_score

from barn_owl.clips import ClipFrames
from barn_owl.features import pool
from barn_owl.learn import Plan
from barn_owl.learn.plan import read_plan
from barn_owl.runs.baseline import STATISTICS, clip_statistics_baseline

ROOT = Path(__file__).parents[1]
SCRIPTS = sorted(
    path
    for folder in ("benchmarks", "docs/screenshots", "docs/reference", "examples")
    for path in (ROOT / folder).rglob("*.py")
)


class Uses(ast.NodeVisitor):
    """Imported names of a script, their objects, and calls with unknown keywords."""

    def __init__(self) -> None:
        self.known: dict[str, object] = {}
        self.wrong: list[str] = []

    def visit_Import(self, node: ast.Import) -> None:
        for alias in node.names:
            if alias.name.partition(".")[0] == "barn_owl":
                self.known[alias.asname or "barn_owl"] = importlib.import_module(
                    alias.name if alias.asname else "barn_owl"
                )

    def visit_ImportFrom(self, node: ast.ImportFrom) -> None:
        if (node.module or "").partition(".")[0] != "barn_owl":
            return
        module = importlib.import_module(node.module)
        for alias in node.names:
            if hasattr(module, alias.name):
                self.known[alias.asname or alias.name] = getattr(module, alias.name)
            else:
                self.wrong.append(f"line {node.lineno}: {node.module} has no {alias.name}")

    def found(self, node: ast.expr) -> object:
        """The object of a dotted name; None if the package does not define it."""
        if isinstance(node, ast.Name):
            return self.known.get(node.id)
        if isinstance(node, ast.Attribute) and (owner := self.found(node.value)) is not None:
            if inspect.ismodule(owner) and not hasattr(owner, node.attr):
                self.wrong.append(f"line {node.lineno}: {owner.__name__} has no {node.attr}")
            return getattr(owner, node.attr, None)
        return None

    def visit_Attribute(self, node: ast.Attribute) -> None:
        self.found(node)
        self.generic_visit(node)

    def visit_Call(self, node: ast.Call) -> None:
        called = self.found(node.func)
        if callable(called) and (module := getattr(called, "__module__", "")) and module.startswith("barn_owl"):
            given = {one.arg for one in node.keywords if one.arg}
            parameters = inspect.signature(called).parameters
            if not any(one.kind is one.VAR_KEYWORD for one in parameters.values()):
                self.wrong += [f"line {node.lineno}: no parameter {one}" for one in sorted(given - set(parameters))]
        self.generic_visit(node)


@pytest.mark.parametrize("script", SCRIPTS, ids=lambda path: str(path.relative_to(ROOT)))
def test_scripts_use_names_and_parameters_that_exist(script):
    uses = Uses()
    uses.visit(ast.parse(script.read_text(encoding="utf-8")))
    assert not uses.wrong, "\n".join(uses.wrong)


def test_scripts_with_an_old_name_are_found():
    uses = Uses()
    uses.visit(
        ast.parse("import barn_owl as owl\nfrom barn_owl.clips import gone\nowl.read_audio('a', rate=1)\nowl.old")
    )
    assert uses.wrong == [
        "line 2: barn_owl.clips has no gone", "line 3: no parameter rate", "line 4: barn_owl has no old",
    ]  # fmt: skip


def run_data(rng, labels, shuffled=False):
    """Clips whose labels differ in a band or, `shuffled`, in nothing; as a run stores them."""
    split = np.array(["train", "train", "validation", "test"])[np.arange(len(labels)) % 4]
    frames = [rng.standard_normal((20, 6)).astype(np.float32) for _ in labels]
    if not shuffled:
        for label, one in zip(labels, frames, strict=True):
            one[:, label] += 1.0
    data = SimpleNamespace(
        table=pd.DataFrame({"split": split}),
        frames=ClipFrames(frames),
        targets=lambda multilabel: np.eye(max(labels) + 1, dtype=np.float32)[labels],  # noqa: ARG005 - as it is called
    )
    return data, split


def test_the_baseline_separates_what_statistics_separate_and_nothing_else(rng):
    labels = rng.permutation(np.repeat([0, 1, 2], 80))
    data, _ = run_data(rng, labels)
    found = clip_statistics_baseline(data, multilabel=False)
    assert set(found) == {"train", "validation", "test"}
    assert min(found.values()) > 0.9
    chance, _ = run_data(rng, labels, shuffled=True)
    assert clip_statistics_baseline(chance, multilabel=False)["test"] == pytest.approx(1 / 3, abs=0.2)


def test_the_baseline_is_about_that_of_a_general_library(rng):
    labels = np.repeat([0, 1, 1, 1], 100)[rng.permutation(400)]  # three times as many of a label
    data, split = run_data(rng, labels)
    for one in data.frames.parts:
        one += 2.5 * rng.standard_normal((1, 6)).astype(np.float32)  # so that clips overlap
    rows = np.stack([pool(frames, STATISTICS) for frames in data.frames.parts]).astype(np.float64)
    rows = (rows - rows[split == "train"].mean(axis=0)) / rows[split == "train"].std(axis=0)
    theirs = LogisticRegression(class_weight="balanced", C=1.0).fit(rows[split == "train"], labels[split == "train"])
    expected = balanced_accuracy_score(labels[split == "test"], theirs.predict(rows[split == "test"]))
    assert clip_statistics_baseline(data, multilabel=False)["test"] == pytest.approx(expected, abs=0.1)


def test_defaults_in_the_reference_are_those_of_the_plan(tmp_path):
    """The page, read as TOML, is the default plan."""
    lines, sections = [], 0
    for line in (ROOT / "docs/reference/plan.md").read_text(encoding="utf-8").splitlines():
        if heading := re.fullmatch(r"## `(\[\w+\])`", line):
            lines.append(heading[1])
            sections += 1
        elif row := re.match(r"\| `(\w+)` \| .*? \| (.*?) \| ", line.replace("\\|", "/")):
            default = row[2].replace("\\[", "[").replace("&lt;", "<").replace("&gt;", ">")
            default = re.sub(r"(?<=\d) (s|ms|Hz|dB|%|m|semitones|bands)$", "", default)
            lines += [f"{row[1]} = {default}"] if default else []
    text = "\n".join(lines)
    assert sections > 10
    assert len(tomllib.loads(text)) > 15
    (tmp_path / "plan.toml").write_text(text, encoding="utf-8")
    assert read_plan(tmp_path / "plan.toml") == Plan()
