"""Wrong arguments of every public function: valid calls from the docstring examples, with an argument replaced."""

import contextlib
import doctest
import inspect
import io
import shutil
from pathlib import Path

import numpy as np
import pandas as pd
import pytest

import barn_owl
from barn_owl.annotation import item_key
from barn_owl.arguments import as_array, checked
from barn_owl.errors import BarnOwlError
from helpers import few_made_up, fill_harbor, leave_figures_blank, registrations_undone

PACKAGES = ["annotation", "archive", "audio", "classifiers", "clips", "device", "evaluate", "features", "learn"]
PACKAGES += ["live", "model", "runs", "show", "sound", "tag"]
SLOW = {"train", "train_classifiers", "train_several", "train_subsets", "search", "shrink", "measure_training"}
SLOW |= {"harvest", "measure_throughput", "quantize_run", "adjust", "write_results", "suggest_plan"}
ODD = [None, 5, -1, float("nan"), "no such file.csv", "", [], {}, object(), np.zeros((3, 2)), np.full(3, np.nan)]
ODD += [pd.DataFrame(), pd.DataFrame({"file": [np.nan]})]


@pytest.fixture
def harbor(shared, tmp_path, monkeypatch):
    shutil.copytree(shared("harbor", fill_harbor), tmp_path / "harbor")
    monkeypatch.chdir(tmp_path / "harbor")
    leave_figures_blank(monkeypatch)


def valid_call(package, function, monkeypatch):
    """Run the examples of a function; return the arguments of its last call there."""
    calls = []

    def noted(*given, **named):
        calls.append((given, named))
        return function(*given, **named)

    with monkeypatch.context() as patch, contextlib.redirect_stdout(io.StringIO()):
        for module in (package, barn_owl):
            if getattr(module, function.__name__, None) is function:
                patch.setattr(module, function.__name__, noted)
        names = {"barn_owl": barn_owl, "np": np, "pd": pd, "item_key": item_key, "Path": Path}
        names |= {function.__name__: noted}
        for example in doctest.DocTestParser().get_examples(function.__doc__):
            exec(compile(example.source, function.__name__, "single"), names)  # noqa: S102
    return inspect.signature(function).bind(*calls[-1][0], **calls[-1][1]).arguments if calls else None


def fault(function, arguments, name, odd):
    """Call a function with an argument replaced; return the fault of its failure."""
    try:
        with contextlib.redirect_stdout(io.StringIO()):
            result = function(**{**arguments, name: odd})
            if inspect.isgenerator(result):
                next(result, None)
    except BarnOwlError:
        return ""
    except (TypeError, ValueError) as error:
        return "" if name in str(error) else f"{function.__name__}({name}={odd!r}): {type(error).__name__}: {error}"
    return ""


@pytest.mark.parametrize("name", PACKAGES)
def test_a_wrong_argument_is_named(name, harbor, monkeypatch, seed):
    package, rng, faults = getattr(barn_owl, name), np.random.default_rng(seed), []
    for function in (getattr(package, each) for each in package.__all__):
        if not inspect.isfunction(function) or ">>>" not in function.__doc__ or function.__name__ in SLOW:
            continue
        with few_made_up(), registrations_undone():
            arguments = valid_call(package, function, monkeypatch)
            for parameter in inspect.signature(function).parameters.values() if arguments else ():
                if parameter.kind in (parameter.VAR_POSITIONAL, parameter.VAR_KEYWORD):
                    continue
                odd = [ODD[number] for number in rng.choice(len(ODD), 2, replace=False)]
                faults += [fault(function, arguments, parameter.name, one) for one in odd]
    assert list(filter(None, faults)) == []


@pytest.mark.parametrize("name", sorted(SLOW))
def test_a_slow_function_refuses_wrong_types_at_once(name):
    function = next(
        getattr(getattr(barn_owl, one), name) for one in PACKAGES if hasattr(getattr(barn_owl, one), name)
    )
    first = next(iter(inspect.signature(function).parameters))
    required = {
        key: object() for key, one in inspect.signature(function).parameters.items() if one.default is one.empty
    }
    with pytest.raises(TypeError, match=f"{first} must be .*, got object"):
        function(**required)


def test_numbers_columns_and_rows_of_other_libraries_are_taken():
    @checked
    def function(count: int, share: float, names: list[str] | tuple[str, ...], flag: bool = False) -> int:
        return count

    assert function(np.int64(3), np.float32(0.5), ["a"], flag=True) == 3
    assert barn_owl.clips.join_labels(pd.Series(["b", "a"])) == "a|b"
    assert barn_owl.features.pool([[1.0, 2.0], [3.0, 4.0]], ["mean"]).tolist() == [2.0, 3.0]
    for wrong in ({"count": True}, {"count": 2.5}, {"share": "x"}, {"share": float("nan")}, {"names": "ab"}):
        with pytest.raises((TypeError, ValueError), match=f"{next(iter(wrong))} must be"):
            function(**{"count": 1, "share": 1, "names": ["a"], **wrong})
    with pytest.raises(ValueError, match=r"x must be a number array of shape \(any, 2\), got float64 \(3,\)"):
        as_array("x", np.zeros(3), None, 2)
