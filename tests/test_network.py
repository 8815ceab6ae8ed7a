from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor

import numpy as np
import pytest
from hypothesis import given, strategies as st

from barn_owl.arrays import LINE, aligned_empty
from barn_owl.errors import PlanError
from barn_owl.network import (
    AdamW,
    BatchNorm,
    Convolution,
    Dense,
    Dropout,
    FoldBands,
    Network,
    Pool,
    RelativeLevel,
    Relu,
    Residual,
    attention_pool,
    binary_cross_entropy,
    cross_entropy,
    sigmoid,
    softmax,
    step_cross_entropy,
    stretch_cross_entropy,
    warm_cosine,
    weighted_cross_entropy,
)
from barn_owl.network.layer import Scratch
from barn_owl.network.level import window_level
from barn_owl.network.network import swap_batch_and_time
from barn_owl.network.optimizer import clip_norm
from helpers import assert_close

STEP = 5e-6


def slope(f: Callable[[np.ndarray], float], x: np.ndarray, step: float = 1e-4) -> np.ndarray:
    """Gradient of `f` at the float64 array `x` by central differences of order four."""
    grad = np.empty_like(x)
    for i in np.ndindex(x.shape):
        near = [x.copy() for _ in range(4)]
        for moved, k in zip(near, (-2, -1, 1, 2), strict=True):
            moved[i] += k * step
        grad[i] = np.dot([f(n) for n in near], [1, -8, 8, -1]) / (12 * step)
    return grad


def network(layers, shape, rng) -> Network:
    """A network in float64, so that finite differences are exact enough."""
    made = Network(layers, shape, rng)
    made.set_vector(made.vector.astype(np.float64) + 0.1 * rng.standard_normal(len(made.vector)))
    return made


def conv(channels, taps, stride=1, **more):
    """A convolution along time, or along time and bands where `taps` is a pair."""
    taps, stride = (size if isinstance(size, tuple) else (size, 1) for size in (taps, stride))
    return Convolution(channels, taps, stride, **more)


@pytest.mark.parametrize(
    ("layers", "shape"),
    [
        pytest.param(lambda: [conv(3, 1), Relu(), conv(3, 3)], (11, 2), id="convolution"),
        pytest.param(lambda: [conv(3, 2), Relu(), conv(3, 4, 2)], (11, 2), id="stride"),
        pytest.param(lambda: [conv(3, 1), Relu(), conv(3, 3, 3)], (11, 2), id="stride of taps"),
        pytest.param(lambda: [conv(3, 1, bias=True), conv(2, 3, dilation=2, bias=True)], (11, 2), id="dilation"),
        pytest.param(lambda: [conv(16, 1), Relu(), conv(2, 3, dilation=2)], (8, 2), id="tap by tap"),
        pytest.param(lambda: [conv(8, (1, 1)), conv(2, (3, 2), (1, 2), padding="bands")], (4, 4, 1), id="and bands"),
        pytest.param(lambda: [conv(3, 1), Relu(), conv(None, 3, 2)], (11, 2), id="depthwise"),
        pytest.param(
            lambda: [conv(2, (1, 1)), Relu(), conv(3, (3, 3), (2, 1), padding="bands")], (6, 5, 1), id="two axes"
        ),
        pytest.param(
            lambda: [conv(2, (1, 1)), conv(3, (2, 2), (2, 2)), conv(None, (2, 3), padding="bands")],
            (6, 5, 1), id="patches, depthwise over two axes",
        ),
        pytest.param(lambda: [conv(3, 2), BatchNorm(), Relu(), BatchNorm()], (11, 2), id="batch normalization"),
        pytest.param(lambda: [conv(3, 2), Dense(2)], (11, 2), id="dense at each step"),
        pytest.param(lambda: [conv(3, 2), Pool("max", (3, 1), (2, 1)), BatchNorm()], (11, 2), id="maximum"),
        pytest.param(lambda: [conv(2, (2, 2)), Pool("mean", (2, 2)), FoldBands(), conv(2, 2)], (7, 5, 1), id="mean"),
        pytest.param(lambda: [conv(2, 2), Dense(3, is_last=False), Relu(), Dense(2)], (5, 2), id="dense"),
        pytest.param(lambda: [conv(3, 2), Residual([conv(3, 3), BatchNorm()]), Relu()], (11, 2), id="residual"),
        pytest.param(lambda: [conv(3, 2), Residual([Relu(), conv(3, 3)]), Relu()], (11, 2), id="relu in it"),
        pytest.param(lambda: [conv(3, 2), Residual([conv(3, 3), Relu()]), Relu()], (11, 2), id="relu at its end"),
        pytest.param(lambda: [conv(3, 2), Dropout(0.4), Relu()], (11, 2), id="dropout"),
    ],
)  # fmt: skip
def test_gradients_are_finite_differences(layers, shape, rng):
    made = network(layers(), shape, rng)
    x = rng.standard_normal((3, *shape))
    wanted = rng.standard_normal((3, *made.shapes[-1]))

    def loss(x: np.ndarray) -> float:
        return float((made.forward(x, np.random.default_rng(1))[0] * wanted).sum())

    def loss_of_weights(vector: np.ndarray) -> float:
        before = made.vector.copy()
        made.vector[:] = vector
        result = loss(x)
        made.vector[:] = before
        return result

    # Twice with the same memory: the second batch must not depend on the first.
    part = made._part()
    for _ in range(2):
        _, kept = made.forward(x, np.random.default_rng(1), part.scratch)
        gradient = made.backward(wanted.copy(), kept, part).copy()
    # The step is so small that hardly any input of a rectifier or a maximum lies that near to where it bends; the
    # differences are then good to a few 1e-9 of the largest entry.
    expected = slope(loss_of_weights, made.vector.copy(), STEP)
    assert_close(gradient, expected, rtol=1e-6, atol=1e-8 * np.abs(expected).max())

    made.layers[0].is_first = False
    _, kept = made.forward(x, np.random.default_rng(1))
    dy = np.ascontiguousarray(swap_batch_and_time(wanted))
    for number in reversed(range(len(made.layers))):
        dy = made.layers[number].backward(dy, kept[number], part.gradients[number], part.scratch)
    assert_close(swap_batch_and_time(dy), slope(loss, x, STEP), rtol=1e-6, atol=1e-8)


def test_folding_normalization_into_convolutions_changes_nothing(rng):
    first = conv(4, (3, 3), padding="bands")
    layers = [first, BatchNorm(), Relu(), FoldBands(), conv(6, 1), Relu(), BatchNorm()]  # the last must stay
    made = Network([*layers, Residual([conv(6, 3), BatchNorm()]), Relu(), Dense(3)], (12, 5, 1), rng)
    for array in made.states().values():
        array += rng.uniform(0, 0.5, array.shape).astype(np.float32)
    x = rng.standard_normal((4, 12, 5, 1)).astype(np.float32)
    folded = swap_batch_and_time(x)
    for layer in made.folded():
        folded, _ = layer.forward(folded, None, Scratch())
    folded, (y, _) = swap_batch_and_time(folded), made.forward(x)
    assert len(made.folded()) == len(made.layers) - 3  # a normalization and two relus are merged into convolutions
    assert_close(folded, y, rtol=1e-4, atol=1e-5)  # the same sums in another order, in float32


@pytest.mark.parametrize(
    ("layers", "message"),
    [
        ([conv(3, 20)], "layer 1: a convolution needs 20 steps in time and gets 11"),
        ([RelativeLevel(5, 50)], "layer 1: a relative level is that of bands"),
        ([conv(3, 2), Residual([conv(4, 3)])], r"layer 2: a residual block must keep bands and channels \(3,\)"),
        ([FoldBands()], "layer 1: there are no bands to fold"),
    ],
)
def test_layers_that_do_not_fit_are_named(layers, message, rng):
    with pytest.raises(PlanError, match=message):
        Network(layers, (11, 2), rng)


def test_frozen_layers_stay_and_the_others_learn(rng):
    net = tiny(rng)
    net.frozen = 3
    before, state = net.vector.copy(), {name: array.copy() for name, array in net.states().items()}
    optimizer = AdamW(net.vector, decay=0.1, decayed=net.kernels)
    x, targets = rng.standard_normal((8, 20, 4)).astype(np.float32), step_by_step(np.arange(8) % 3, 18)
    with ThreadPoolExecutor(1) as threads:
        _, gradient = net.learn(x, targets, (0, 0), threads, binary_cross_entropy)
    optimizer.step(gradient, 0.1)
    assert ((net.vector != before) == net.trained).all()
    assert all((array == state[name]).all() for name, array in net.states().items())


def test_convolution_is_numpy_correlate(rng):
    layer = conv(4, 5, 2)
    made = network([layer], (20, 3), rng)
    x = rng.standard_normal((2, 20, 3))
    y, _ = made.forward(x)
    kernel = layer.weights["kernel"].reshape(5, 3, 4)
    expected = [
        [sum(np.correlate(x[n, :, c], kernel[:, c, o], "valid") for c in range(3))[::2] for o in range(4)]
        for n in range(2)
    ]
    assert_close(y, np.array(expected).transpose(0, 2, 1), rtol=1e-10)
    assert y.shape[1:] == layer.shape((20, 3))


def test_cross_entropy_by_hand_and_by_differences(rng):
    loss, _ = cross_entropy(np.log([[0.5, 0.25, 0.25], [0.1, 0.8, 0.1]]), np.eye(3)[[0, 1]])
    assert loss == pytest.approx((np.log(2) - np.log(0.8)) / 2)
    logits, targets = rng.normal(size=(5, 3)), softmax(rng.normal(size=(5, 3)))
    _, gradient = cross_entropy(logits, targets)
    assert_close(gradient, slope(lambda z: cross_entropy(z, targets)[0], logits), rtol=1e-8, atol=1e-12)
    loss, _ = binary_cross_entropy(np.zeros((2, 3)), np.ones((2, 3)))
    assert loss == pytest.approx(np.log(2))
    _, gradient = binary_cross_entropy(logits, targets)
    assert_close(gradient, slope(lambda z: binary_cross_entropy(z, targets)[0], logits), rtol=1e-8, atol=1e-12)
    assert_close(sigmoid(logits), 1 / (1 + np.exp(-logits)), rtol=1e-12)
    huge = np.array([[1e4, -1e4]], np.float32)
    assert cross_entropy(huge, np.array([[0, 1]], np.float32))[0] == 2e4


def test_batch_norm_learns_the_running_moments(rng):
    layer = BatchNorm()
    Network([layer], (50, 2), rng)
    x = (rng.standard_normal((50, 64, 2)) * [2, 5] + [1, -3]).astype(np.float32)
    y, kept = layer.forward(x.copy(), rng, Scratch())
    for first in range(0, 64, layer.GROUP):
        assert_close(y[:, first : first + layer.GROUP].std(axis=(0, 1)), np.ones(2, np.float32), rtol=1e-3)
    for _ in range(100):
        layer.absorb([kept])
    assert_close(layer.state["mean"], x.mean(axis=(0, 1)), rtol=1e-3)
    # In inference, running moments have the effect of batch moments.
    assert_close(layer.forward(x, None, Scratch())[0].mean(axis=(0, 1)), np.zeros(2, np.float32), atol=1e-2)


def test_adamw_first_step_decay_and_convergence():
    w = np.array([1.0, -2.0])
    AdamW(w, decay=0.5, decayed=np.array([True, False])).step(np.array([10.0, 0.001]), rate=0.1)
    # After bias correction the first move is the sign of the gradient, and decay adds rate * decay * weight.
    assert_close(w, np.array([1 - 0.1 - 0.05, -2 - 0.1]), rtol=1e-5)
    w = np.array([3.0, -4.0])
    optimizer = AdamW(w, decay=0.0, decayed=np.ones(2))
    for step in range(800):
        optimizer.step(2 * (w - [1, 2]), warm_cosine(step, 800, 0.1))
    assert_close(w, np.array([1.0, 2.0]), rtol=1e-4)


def test_clipping_keeps_the_direction():
    gradient = np.array([3.0, 4.0])
    assert clip_norm(gradient, 1.0) == 5.0
    assert_close(gradient, np.array([0.6, 0.8]))
    clip_norm(gradient, 2.0)
    assert_close(gradient, np.array([0.6, 0.8]))


def step_by_step(numbers, steps) -> np.ndarray:
    """Targets that are the same at each step: ``(clips, steps, 3)``."""
    return np.repeat(np.eye(3, dtype=np.float32)[numbers][:, None], steps, axis=1)


def tiny(rng) -> Network:
    layers = [conv(8, 3), BatchNorm(), Relu(), Dropout(0.3), Dense(3)]
    return Network(layers, (20, 4), rng)


def test_the_number_of_threads_changes_nothing(seed):
    x = np.random.default_rng(seed).standard_normal((70, 20, 4)).astype(np.float32)
    targets = step_by_step(np.arange(70) % 3, 18)
    results = []
    for workers in (1, 3):
        net = tiny(np.random.default_rng(seed))
        with ThreadPoolExecutor(workers) as threads:
            loss, gradient = net.learn(x, targets, (seed, 0), threads, binary_cross_entropy)
        results.append((loss, gradient.tobytes(), [array.tobytes() for array in net.states().values()]))
    assert results[0] == results[1]


def test_one_batch_is_learnt_by_heart(rng):
    x = rng.standard_normal((24, 20, 4)).astype(np.float32)
    targets = step_by_step(rng.integers(0, 3, 24), 16)
    layers = [conv(8, 3), BatchNorm(), Relu(), conv(16, 3), BatchNorm(), Relu()]
    net = Network([*layers, Dense(3)], (20, 4), rng)
    optimizer = AdamW(net.vector, decay=0.0, decayed=net.kernels)
    with ThreadPoolExecutor(1) as threads:
        for step in range(150):
            loss, gradient = net.learn(x, targets, (0, step), threads, binary_cross_entropy)
            optimizer.step(gradient, 0.02)
    assert loss < 0.1


@given(
    shape=st.lists(st.integers(0, 40), max_size=3).map(tuple),
    dtype=st.sampled_from([np.float32, np.float64, np.bool_]),
)
def test_arrays_begin_on_a_line_of_the_cache(shape, dtype):
    array = aligned_empty(shape, dtype)
    assert (array.shape, array.dtype) == (shape, dtype)
    assert array.flags.c_contiguous
    assert array.flags.writeable
    assert array.size == 0 or array.ctypes.data % LINE == 0
    array[...] = 1
    assert array.sum() == array.size


def test_relative_levels_are_their_definition_whatever_the_gain(rng):
    levels = (10 * rng.standard_normal((40, 2, 6, 1)) - 50).astype(np.float32)
    got, _ = RelativeLevel(7, 40.0).forward(levels, None, Scratch())
    power = 10 ** (levels.astype(np.float64) / 10)
    around = np.stack([power[at : at + 7].mean(axis=(0, 2, 3)) for at in range(34)])[:, :, None, None]
    expected = (10 * np.log10(power[3:37] / around + 1e-4) + 15) / 15
    assert_close(got, expected.astype(np.float32), rtol=1e-4, atol=1e-5)
    louder, _ = RelativeLevel(7, 40.0).forward(levels + np.float32(30), None, Scratch())
    assert_close(louder, got, rtol=1e-4, atol=1e-4)  # float32 levels have about six digits
    alone, _ = RelativeLevel(7, 40.0).forward(np.ascontiguousarray(levels[11:25]), None, Scratch())
    np.testing.assert_array_equal(alone, got[11 : 11 + 8])  # an excerpt has the values it has within the whole
    silence, _ = RelativeLevel(7, 40.0).forward(np.full((9, 1, 6, 1), -300, np.float32), None, Scratch())
    assert np.isfinite(silence).all()


def test_windows_are_relative_to_their_own_power(rng):
    windows = (10 * rng.standard_normal((3, 20, 6)) - 50).astype(np.float32)
    power = 10 ** (windows.astype(np.float64) / 10)
    expected = (10 * np.log10(power / power.mean(axis=(1, 2), keepdims=True) + 1e-5) + 15) / 15
    assert_close(window_level(windows, 50.0), expected.astype(np.float32), rtol=1e-4, atol=1e-5)
    assert_close(window_level(windows - np.float32(25), 50.0), window_level(windows, 50.0), rtol=1e-4, atol=1e-4)


def test_losses_of_mixtures_by_hand_and_by_differences(rng):
    logits, wanted, counts = rng.normal(size=(2, 5, 4)), rng.random((2, 5, 4)), rng.random((2, 5, 4)) * 3
    loss, gradient = weighted_cross_entropy(logits, wanted, counts)
    p = sigmoid(logits)
    by_hand = -(counts * (wanted * np.log(p) + (1 - wanted) * np.log(1 - p))).mean()
    assert loss == pytest.approx(by_hand)
    assert_close(
        gradient, slope(lambda z: weighted_cross_entropy(z, wanted, counts)[0], logits), rtol=1e-7, atol=1e-11
    )


@pytest.mark.parametrize("multilabel", [False, True])
def test_loss_of_stretches_by_hand_and_by_differences(rng, multilabel):
    logits, attention = rng.normal(size=(2, 5, 4)), rng.normal(size=(2, 5))
    inside = np.zeros((2, 5, 3))
    # the third position of both, and a further position, are free
    inside[0, 1:4, 0] = inside[0, 3:5, 1] = inside[1, :, 0] = 1
    wanted = rng.random((2, 3, 4))
    wanted /= wanted.sum(axis=2, keepdims=True)
    counts = rng.uniform(0.2, 2, (2, 3))

    def mean(clip, steps):
        weights = np.exp(attention[clip, steps])
        return weights @ logits[clip, steps] / weights.sum()

    stretches = [(0, slice(1, 4), 0), (0, slice(3, 5), 1), (1, slice(0, 5), 0)]
    pooled, weights = attention_pool(logits, attention, inside)
    for clip, steps, place in stretches:
        assert_close(pooled[clip, place], mean(clip, steps), rtol=1e-12)
        assert weights[clip, place].sum() == pytest.approx(1)
    assert not pooled[1, 1:].any()
    by_hand = []
    for clip, steps, place in stretches:
        own, target = mean(clip, steps), wanted[clip, place]
        p = sigmoid(own)
        by_hand.append(
            -(target * np.log(p) + (1 - target) * np.log(1 - p)).sum()
            if multilabel
            else -(target * np.log(softmax(own))).sum()
        )
    whole = stretch_cross_entropy(logits, attention, inside, wanted, counts, multilabel=multilabel)
    loss, by_logits, by_attention = whole
    own = [counts[clip, place] for clip, _, place in stretches]
    assert loss == pytest.approx(np.average(by_hand, weights=own))

    def again(z, a):
        return stretch_cross_entropy(z, a, inside, wanted, counts, multilabel=multilabel)[0]

    assert_close(by_logits, slope(lambda z: again(z, attention), logits), rtol=1e-7, atol=1e-10)
    assert_close(by_attention, slope(lambda a: again(logits, a), attention), rtol=1e-7, atol=1e-10)

    loss, by_logits = step_cross_entropy(logits, inside, wanted, counts, multilabel=multilabel)
    steps_by_hand = []
    for clip, steps, place in stretches:
        target, p = wanted[clip, place], (sigmoid if multilabel else softmax)(logits[clip, steps])
        terms = target * np.log(p) + ((1 - target) * np.log(1 - p) if multilabel else 0)
        steps_by_hand.append(-terms.sum(axis=1).mean())
    assert loss == pytest.approx(np.average(steps_by_hand, weights=own))
    along = slope(lambda z: step_cross_entropy(z, inside, wanted, counts, multilabel=multilabel)[0], logits)
    assert_close(by_logits, along, rtol=1e-7, atol=1e-10)
