import ast
import importlib
import runpy
import subprocess
import sys
from pathlib import Path

import pytest

import barn_owl

ROOT = Path(__file__).parents[1]


def test_public_names_exist_are_documented_and_told_to_type_checkers():
    source = ast.parse((ROOT / "src" / "barn_owl" / "__init__.py").read_text())
    guarded = next(node for node in source.body if isinstance(node, ast.If))
    told = {name.name: node.module for node in guarded.body for name in node.names}
    assert told == barn_owl._HOME
    assert barn_owl.__all__ == sorted(told)
    for name, home in told.items():
        assert getattr(barn_owl, name) is getattr(importlib.import_module(home), name)
        assert getattr(barn_owl, name).__doc__
    assert set(dir(barn_owl)) >= set(told)
    with pytest.raises(AttributeError, match="has no attribute 'nothing'"):
        barn_owl.nothing  # noqa: B018


def test_importing_the_package_loads_nothing_heavy():
    script = "import sys, barn_owl; print(sorted(sys.modules))"
    loaded = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=True).stdout
    assert "'numpy'" not in loaded
    assert "'pandas'" not in loaded


@pytest.mark.parametrize("example", sorted((ROOT / "examples").glob("*.py")), ids=lambda path: path.stem)
def test_examples_run(example, quay, tmp_path, monkeypatch, capsys):
    monkeypatch.chdir(quay.recording.parent)
    if example.stem == "score_samples" and not Path("example-run").is_dir():  # tests may run apart, in any order
        runpy.run_path(str(example.with_name("from_clips_to_events.py")), run_name="__main__")
    runpy.run_path(str(example), run_name="__main__")
    assert capsys.readouterr().out.strip()


def test_the_page_of_features_is_that_of_the_code():
    page = runpy.run_path(str(ROOT / "docs" / "features_page.py"))["page"]
    assert (ROOT / "docs" / "features.md").read_text(encoding="utf-8") == page()
