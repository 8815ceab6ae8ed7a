import ast
import importlib
import inspect
import re
import runpy
import shutil
import subprocess
import sys
from functools import partial
from pathlib import Path

import pytest

import barn_owl as owl
from barn_owl.clips import write_clip_table
from barn_owl.learn import write_plan
from helpers import small_plan

ROOT = Path(__file__).parents[1]


PACKAGES = [
    "barn_owl",
    *(f"barn_owl.{path.parent.name}" for path in sorted((ROOT / "src/barn_owl").glob("*/__init__.pyi"))),
]


@pytest.mark.parametrize("package", PACKAGES)
def test_every_name_that_is_told_to_type_checkers_is_there_when_asked_for(package):
    module = importlib.import_module(package)
    stub = ast.parse(Path(module.__file__).with_suffix(".pyi").read_text())
    told = {name.name: node.module and f"{package}.{node.module}" for node in stub.body for name in node.names}
    assert module.__all__ == sorted(told)
    for name, home in told.items():
        itself = importlib.import_module(home or f"{package}.{name}")  # a package, or where something of it is
        assert getattr(module, name) is (getattr(itself, name) if home else itself)
        assert package != "barn_owl" or getattr(module, name).__doc__
    with pytest.raises(AttributeError, match="has no attribute 'nothing'|No barn_owl.* attribute nothing"):
        module.nothing  # noqa: B018


def test_importing_the_package_loads_nothing_heavy():
    script = "import sys, barn_owl; print(sorted(sys.modules))"
    loaded = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=True).stdout
    assert "'numpy'" not in loaded
    assert "'pandas'" not in loaded


def test_using_a_model_loads_nothing_that_makes_one(run):
    script = f"""
import sys, numpy, barn_owl
model = barn_owl.load_model({str(run.folder)!r})
scored = [name for name in ("pandas", "joblib") if name in sys.modules]
barn_owl.tag_samples(model, numpy.ones(32_000, dtype=numpy.float32), 16_000)
blocks = iter([numpy.ones(32_000, dtype=numpy.float32)])
list(barn_owl.Listener(model, barn_owl.audio.SimulatedMicrophone(blocks, 16_000, speed=1e9)).events())
others = [name for name in sys.modules if name.startswith(("barn_owl.learn", "barn_owl.runs", "barn_owl.show"))]
print(scored, others)
"""
    done = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=True)
    assert done.stdout.strip() == "[] []"


def test_a_process_that_trains_a_network_starts_without_tables():
    script = "import sys, barn_owl.learn.trainer_pool; print('pandas' in sys.modules)"
    assert subprocess.run([sys.executable, "-c", script], capture_output=True, text=True).stdout.strip() == "False"


def test_a_library_trains_without_plots(clips, tmp_path):
    """Figures belong to the command line and `write_results`."""
    write_clip_table(clips, tmp_path / "clips.csv")
    write_plan(small_plan("logistic"), tmp_path / "plan.toml")
    script = """
import sys, barn_owl
run = barn_owl.train(barn_owl.read_clip_table("clips.csv"), "run", barn_owl.read_plan("plan.toml"))
print(run.evaluate().scores.balanced_accuracy > 0.3)
print([name for name in ("matplotlib", "PIL", "click", "rich", "jinja2") if name in sys.modules])
"""
    done = subprocess.run([sys.executable, "-c", script], cwd=tmp_path, capture_output=True, text=True, check=True)
    assert done.stdout.splitlines() == ["True", "[]"]
    assert not list(tmp_path.rglob("*.png"))


def test_help_of_no_command_needs_tables_plots_or_transforms():
    script = """
import sys
from barn_owl.cli import main
for section in main.SECTIONS.values():
    for command in section:
        assert main.run([command, "--help"]) == 0
print([name for name in ("pandas", "matplotlib", "joblib", "scipy.fft", "scipy.signal") if name in sys.modules])
"""
    shown = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=True).stdout
    assert shown.splitlines()[-1] == "[]"


FIRST = "from_clips_to_events"
EXAMPLES = sorted((ROOT / "examples").glob("*.py"), key=lambda path: (path.stem != FIRST, path.stem))


@pytest.mark.parametrize("example", EXAMPLES, ids=lambda path: path.stem)
def test_examples_run(example, quay, tmp_path, monkeypatch, capsys, few_made_up_sounds):
    monkeypatch.chdir(quay.recording.parent)
    monkeypatch.setattr(owl, "Plan", partial(_quick_plan, owl.Plan))
    if example.stem != FIRST and not Path("run").is_dir():  # the demo has a run
        if not Path("example-run").is_dir():  # tests may run apart, in any order
            runpy.run_path(str(example.with_stem(FIRST)), run_name="__main__")
        shutil.copytree("example-run", "run")
    runpy.run_path(str(example), run_name="__main__")
    assert capsys.readouterr().out.strip()


def _quick_plan(plan, **settings):
    """A plan as an example needs it, with fewer windows: it must run, not be accurate."""
    made = plan(**{"rehearsal": {"minutes": 1}, **settings})
    return made.but(pooling={"windows": 200})


@pytest.fixture(scope="module")
def generated():
    return runpy.run_path(str(ROOT / "docs/reference/generate.py"))


def test_the_reference_is_that_of_the_code(generated):
    for name, text in generated["pages"]().items():
        assert (ROOT / "docs/reference" / name).read_text(encoding="utf-8") == text, f"{name}: make reference"


def test_every_key_of_the_plan_has_a_meaning(generated):
    table = generated["plan_page"]()
    rows = [line.split(" | ") for line in table.splitlines() if line.startswith("| `")]
    assert len(rows) > 100
    assert not [row[0] for row in rows if len(row[-1].strip(" |")) < 10]


def test_every_parameter_of_every_public_function_is_documented(generated):
    lacking = []
    for package in generated["packages"]():
        for name, one in generated["public_names"](package):
            methods = vars(one).items() if inspect.isclass(one) else ()
            functions = {name: one} if inspect.isfunction(one) else {}
            functions |= {
                f"{name}.{key}": getattr(value, "__func__", value) for key, value in methods if key[0] != "_"
            }
            for place, function in functions.items():
                if not inspect.isfunction(function) or "pydantic" in function.__module__ or "<" in function.__name__:
                    continue
                text = inspect.getdoc(function)
                lacking += [
                    f"{place}: {parameter}"
                    for parameter in inspect.signature(function).parameters.keys() - {"self", "cls"}
                    if not re.search(rf"^(\w+, )*{parameter}(, \w+)* : ", text, re.MULTILINE)
                ]
    assert not lacking


def test_public_docstrings_are_in_one_layout(generated):
    """Sections as numpydoc has them; shapes or units, and errors, in three of five that can have them."""
    seen = {one for package in generated["packages"]() for _, one in generated["public_names"](package)}
    functions = [one for one in seen if inspect.isfunction(one)]
    texts = [inspect.getdoc(one) or "" for one in functions]
    assert len(texts) > 150
    assert all(texts)
    old = re.compile(r"^\w+ : .*[.;] \w+ : ", re.MULTILINE)
    assert not [one.__name__ for one, text in zip(functions, texts, strict=True) if old.search(text)]
    with_units = [
        bool(re.search(r"``\(|_s\b|_db\b|_hz\b|\bseconds\b|\bdB\b|\bHz\b|\bms\b|table|Table|figure", text))
        for text in texts
    ]
    with_errors = ["\nRaises\n------\n" in text for text in texts]
    assert sum(with_units) >= 0.6 * len(texts)
    assert sum(with_errors) >= 0.6 * len(texts)


def test_the_top_level_holds_what_users_meet_and_packages_hold_the_rest():
    assert len(owl.__all__) <= 60
    assert all(getattr(owl, name) is not None for name in owl.__all__)
