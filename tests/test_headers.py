"""Model files of all classifiers: after any change of a header, loading fails or the model works."""

import json

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings, strategies as st
from safetensors import safe_open
from safetensors.numpy import save_file

from barn_owl.classifiers.kind import kind_of, names, read_config
from barn_owl.errors import ModelError, PlanError
from barn_owl.model import load_model
from barn_owl.model.header import check_arrays, parsed

ANYTHING = st.recursive(
    st.one_of(st.none(), st.booleans(), st.integers(-(2**63), 2**63), st.floats(), st.text(max_size=5)),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.text(max_size=3), inner, max_size=2),
    max_leaves=4,
)
FEW = settings(max_examples=30, suppress_health_check=[HealthCheck.function_scoped_fixture])


def opened(path):
    """The header of a model file and its arrays."""
    with safe_open(path, framework="numpy") as file:
        return json.loads(file.metadata()["barn_owl"]), {name: file.get_tensor(name) for name in list(file.keys())}


def places(value, path=()):
    """Yield every place in a JSON value."""
    inside = value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ()
    for key, own in inside:
        yield (*path, key)
        yield from places(own, (*path, key))


def changed(value, path, new):
    """The same with something else at a place."""
    if not path:
        return new
    copy = value.copy()
    copy[path[0]] = changed(value[path[0]], path[1:], new)
    return copy


def loads_or_is_refused(path, header, arrays):
    save_file(arrays, path, {"barn_owl": json.dumps(header)})
    try:
        model = load_model(path)
    except ModelError as error:
        assert str(path) in str(error)  # noqa: PT017 - either is right
        return
    frames = np.full((model.classifier.window + 40, model.front_end.width), -40, np.float32)
    assert np.isfinite(model.frame_scores(frames).label_logits).all()


@FEW
@given(data=st.data())
def test_a_header_with_anything_in_any_place_is_refused_or_works(any_run, tmp_path, data):
    header, arrays = opened(any_run.folder / "model.safetensors")
    place = data.draw(st.sampled_from([own for own in places(header) if own[0] != "provenance"]))
    loads_or_is_refused(tmp_path / "m.safetensors", changed(header, place, data.draw(ANYTHING)), arrays)


@FEW
@given(data=st.data())
def test_a_model_file_with_an_array_changed_is_refused_or_works(any_run, tmp_path, data):
    header, arrays = opened(any_run.folder / "model.safetensors")
    name = data.draw(st.sampled_from(sorted(arrays)))
    array = arrays.pop(name)
    ways = [
        dict,
        lambda: {name: np.ascontiguousarray(array.T)},
        lambda: {name: array[:-1].copy()},
        lambda: {name: np.concatenate([array, array])},
        lambda: {name: array.astype(np.float64)},
        lambda: {name: np.zeros_like(array)},
        lambda: {f"{name}s": array},
    ]
    loads_or_is_refused(tmp_path / "m.safetensors", header, arrays | data.draw(st.sampled_from(ways))())


@pytest.mark.parametrize("name", names())
def test_what_a_classifier_says_of_itself_is_what_its_schema_asks(name, ranking):
    run = ranking[0] / name
    header, _ = opened(run / "model.safetensors")
    config = read_config(header["classifier"])
    assert isinstance(config, kind_of(header["classifier"]["name"]).config)
    assert config.model_dump(mode="json", exclude_unset=True) == header["classifier"]
    classifier = load_model(run).classifier
    assert {"name": classifier.name, **classifier.config()} == header["classifier"]
    with pytest.raises(PlanError, match="color: unknown key"):
        read_config({**header["classifier"], "color": "red"})


@pytest.mark.parametrize("given", [None, [], "cnn", {}, {"name": 3}, {"name": "owl"}, {"settings": {}}])
def test_what_is_no_classifier_is_refused(given):
    with pytest.raises(ValueError, match=r"an object with a name|there is no classifier 'owl'"):
        read_config(given)


def test_an_ensemble_holds_no_ensembles():
    inner = {"name": "ensemble", "members": [{"name": "majority", "frames": 1, "step": 1, "statistics": ["mean"],
                                              "level": {"frames": 0, "range_db": 50}}]}  # fmt: skip
    with pytest.raises((PlanError, ValueError), match="ensemble"):
        read_config({"name": "ensemble", "members": [inner]})


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("[1]", "is not an object"), ('{"a": NaN}', "NaN"), ("[" * 10**6, "nested too deep"), ("{", "Expecting"),
        ('"' + "x" * (1 << 23) + '"', "characters long"),
    ],
)  # fmt: skip
def test_what_is_no_header_is_refused(text, said):
    with pytest.raises(ValueError, match=said):
        parsed(text)


@pytest.mark.parametrize("bad", [np.array([np.nan]), np.array([np.inf]), np.array(["x"]), np.array([1j])])
def test_arrays_of_what_are_no_numbers_are_refused(bad):
    with pytest.raises(ValueError, match="no numbers|not finite"):
        check_arrays({"weights.kernel": bad})
    if bad.dtype.kind == "f":  # where a tree does not branch, its cut is infinite
        check_arrays({"weights.cuts": np.array([np.inf])})
