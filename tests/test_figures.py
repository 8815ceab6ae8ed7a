"""Content of figures: units on every axis, the given numbers, and titles with the finding."""

import colorsys

import numpy as np
import pandas as pd
import pytest
from matplotlib.figure import Figure

import barn_owl as owl
from barn_owl.audio import write_audio
from barn_owl.clips import check_clip_table
from barn_owl.errors import AudioError, TableError
from barn_owl.features import FrontEnd, rank_features
from barn_owl.show import (
    clip_figure,
    confusion_figure,
    distributions_figure,
    filter_bank_figure,
    gallery_figure,
    map_figure,
    overview_figure,
    save_figure,
    scatter_figure,
    spectra_figure,
    tagging_figure,
    tracks_figure,
    variants_figure,
)
from barn_owl.show.style import DUSK, LABEL_COLORS, label_fills, label_lines
from barn_owl.tag import compute_trace, tag_recording
from helpers import RATE_HZ, evaluation_of

pytestmark = pytest.mark.usefixtures("drawn")


def words(figure: Figure) -> str:
    """Everything that is written in a figure."""
    figure.canvas.draw()
    return "\n".join(text.get_text() for text in figure.findobj(match=lambda item: hasattr(item, "get_text")))


def sine(hertz, seconds=1.0):
    return (0.5 * np.sin(2 * np.pi * hertz * np.arange(round(seconds * RATE_HZ)) / RATE_HZ)).astype(np.float32)


def images(figure):
    return [image for axes in figure.axes for image in axes.get_images()]


def test_the_color_map_rises_in_lightness_and_labels_differ_without_color():
    red, green, blue = np.array([DUSK(x)[:3] for x in np.linspace(0, 1, 64)]).T
    luma = 0.2126 * red**2.2 + 0.7152 * green**2.2 + 0.0722 * blue**2.2
    assert (np.diff(luma) > 0).all()
    assert len(set(LABEL_COLORS)) == 8
    hues = {round(colorsys.rgb_to_hsv(*(int(c[k : k + 2], 16) for k in (1, 3, 5)))[0], 2) for c in LABEL_COLORS}
    assert len(hues) >= 6


def test_a_clip_is_drawn_on_one_time_axis_in_real_units():
    figure = clip_figure(sine(1000), RATE_HZ, title="tone")
    said = words(figure)
    for unit in ("Hz", "dB", "time"):
        assert unit in said
    assert "tone" in said
    limits = {axes.get_xlim() for axes in figure.axes if axes.get_images() or axes.lines}
    assert len({round(high, 1) for _, high in limits if high > 0.5}) == 1
    # The spectrogram is brightest at the tone.
    spectrogram = max(images(figure), key=lambda image: image.get_array().shape[0])
    low, high = spectrogram.get_extent()[2:]
    rows = np.asarray(spectrogram.get_array()).mean(axis=1)
    assert low + (rows.argmax() + 0.5) * (high - low) / len(rows) == pytest.approx(1.0, abs=0.04)  # kHz
    with pytest.raises(AudioError, match="too short"):
        clip_figure(sine(1000)[:100], RATE_HZ)


def test_a_gallery_shows_every_label_on_one_scale(clips):
    figure = gallery_figure(clips, examples=3)
    said = words(figure)
    for label in ("hum", "hiss", "tick", "still"):
        assert f"{label}\n12 clips" in said
    pictures = images(figure)
    assert len(pictures) == 12
    assert len({image.get_clim() for image in pictures}) == 1
    assert "dB re full scale" in said
    gone = check_clip_table(pd.DataFrame({"file": ["gone.wav"], "label": ["x"]}))
    with pytest.raises(TableError):
        gallery_figure(gone)


def test_tracks_have_a_row_for_each_feature_with_its_unit():
    front_end = FrontEnd(features=["log-mel", "pitch", "level", "deltas"])
    figure = tracks_figure(front_end, front_end.frames(sine(440)), title="a tone")
    rows = [axes for axes in figure.axes if axes.get_ylabel()]
    said = words(figure)
    assert "a tone" in said
    for name, unit in (("pitch", "Hz"), ("level", "dB re full-scale sine"), ("log-mel", "dB")):
        assert any(name in axes.get_ylabel() and unit in axes.get_ylabel() + said for axes in rows), name
    pitch = next(axes for axes in rows if axes.get_ylabel().startswith("pitch"))
    assert np.median(pitch.lines[0].get_ydata()) == pytest.approx(440, rel=5e-3)


def test_a_filter_bank_is_drawn_band_by_band():
    front_end = FrontEnd(bands=12, low_hz=100, high_hz=6000)
    axes = filter_bank_figure(front_end).axes[0]
    assert len(axes.lines) == 12
    assert "12 mel bands from 100 to 6000 Hz, bins 31.2 Hz wide" in axes.get_title(loc="left")
    peaks = [line.get_xdata()[line.get_ydata().argmax()] for line in axes.lines]
    np.testing.assert_allclose(peaks, front_end.centers_hz, atol=front_end.bin_hz)


@pytest.mark.parametrize(("seconds", "unit"), [(20, "seconds"), (240, "minutes")])
def test_an_overview_says_where_it_is_loudest(tmp_path, rng, seconds, unit):
    samples = 0.01 * rng.standard_normal(8000 * seconds)
    loud = round(0.6 * seconds)
    samples[loud * 8000 : (loud + 1) * 8000] *= 20
    write_audio(tmp_path / "night.wav", samples, 8000)
    told = []
    figure = overview_figure(tmp_path / "night.wav", progress=lambda done, whole: told.append((done, whole)))
    title = figure.axes[0].get_title(loc="left")
    assert "night.wav" in title
    assert abs(int(title.split("loudest at ")[1].split(" s")[0]) - loud) <= max(1, seconds // 100)
    assert f"time in {unit}" in words(figure)
    assert told[-1][0] == pytest.approx(seconds, abs=1)


@pytest.fixture
def features(rng):
    labels = ["a"] * 30 + ["b"] * 30 + ["c"] * 30
    x = rng.standard_normal((90, 4)).astype(np.float32)
    x[:30, 2] += 6
    return x, ["one", "two", "three", "four"], labels


def test_features_of_classes_are_drawn_best_first(features):
    x, columns, labels = features
    figure = distributions_figure(x, columns, labels, rank_features(x, columns, labels))
    assert figure.get_suptitle() == "three separates the labels best"
    assert figure.axes[0].get_title(loc="left").startswith("three: F ")
    assert "a higher" in figure.axes[0].get_title(loc="left")
    assert [text.get_text() for text in figure.axes[0].get_yticklabels()] == ["a", "b", "c"]


def test_dots_stand_where_the_numbers_are(features):
    x, columns, labels = features
    axes = scatter_figure(x, columns, labels, "three", "one").axes[0]
    assert (axes.get_xlabel(), axes.get_ylabel()) == ("three", "one")
    named = scatter_figure(x, columns, labels, "three", "one", units=["Hz", "1", "dB", "1"]).axes[0]
    assert (named.get_xlabel(), named.get_ylabel()) == ("three, dB", "one, Hz")
    dots = {group.get_label(): np.asarray(group.get_offsets()) for group in axes.collections}
    np.testing.assert_allclose(dots["b"], x[30:60][:, [2, 0]], rtol=1e-6)
    shapes = {group.get_paths()[0].vertices.shape for group in axes.collections}
    assert len(shapes) > 1  # labels differ by marker too
    variances = words(map_figure(x, labels))
    assert "first principal component" in variances
    assert "% of the variance" in variances


def test_spectra_are_those_of_the_middle_clip_and_half_of_them_around(rng):
    centers = np.array([100.0, 500.0, 2000.0])
    spectra = {name: rng.uniform(-80, -20, (7, 3)) for name in ("hum", "hiss")}
    axes = spectra_figure(spectra, centers).axes[0]
    lines = {line.get_label().split(",")[0].split(" (")[0]: line.get_ydata() for line in axes.lines}
    np.testing.assert_allclose(lines["hum"], np.median(spectra["hum"], axis=0), rtol=1e-5)
    assert "dB" in axes.get_ylabel()
    assert "Hz" in axes.get_xlabel()


def test_a_confusion_says_its_counts():
    scores = evaluation_of(["a"] * 11 + ["b"] * 7, ["a"] * 9 + ["b"] * 9, ["a", "b"])
    figure = confusion_figure(scores)
    said = words(figure)
    assert {"9", "2", "7"} <= set(said.split())
    np.testing.assert_allclose(images(figure)[0].get_array(), [[9 / 11, 2 / 11], [0, 1]])
    assert "share of the clips of the true label" in said


def test_a_tagged_recording_shows_its_events(quay, runs, tmp_path):
    model = runs["cnn"].model
    events = tag_recording(model, quay.recording)
    figure = tagging_figure(model, quay.recording, events)
    said = words(figure)
    assert "dB re full scale" in said
    for label in model.labels:
        if label not in model.background:
            assert label in said
    # Existing scores are drawn like computed scores; rejected candidates are marked.
    kept = compute_trace(model, quay.recording)
    strict = model.decoding.but(threshold=0.2, release_threshold=0.1, min_known_probability=0.0, min_duration_s=600.0)
    axes = tagging_figure(model, quay.recording, events, trace=kept, end_s=60.0, decoding=strict).axes[1]
    again = tagging_figure(model, quay.recording, events, end_s=60.0, decoding=strict).axes[1]
    for one, other in zip(axes.lines[:2], again.lines[:2], strict=True):
        own, made = one.get_ydata(), other.get_ydata()
        np.testing.assert_allclose(own[20 : len(made) - 20], made[20 : len(own) - 20], atol=0.05)
    assert any("dropped: too short" in text.get_text() for text in axes.get_legend().get_texts())
    save_figure(figure, tmp_path / "night.svg")
    assert (tmp_path / "night.svg").read_text().lstrip().startswith("<?xml")


def test_the_legend_of_many_labels_names_only_what_the_rows_do_not(quay, runs, monkeypatch):
    model = runs["cnn"].model
    strict = model.decoding.but(threshold=0.2, release_threshold=0.1, min_known_probability=0.0, min_duration_s=600.0)

    def legend():
        events = tag_recording(model, quay.recording)
        axes = tagging_figure(model, quay.recording, events, end_s=60.0, decoding=strict).axes[1]
        return [text.get_text().partition(" (")[0] for text in axes.get_legend().get_texts()]

    reported = [label for label in model.labels if label not in model.background]
    few = legend()
    assert set(reported) < set(few)
    monkeypatch.setattr("barn_owl.show.tagging.MAX_NAMES", 1)
    assert legend() == [name for name in few if name not in model.labels]
    assert {"any label", "dropped: too short"} <= set(legend())


def test_the_title_of_a_confusion_counts_the_clips_of_the_label():
    true = ["a"] * 5 + ["b"] * 5
    said = ["a"] * 3 + ["b"] * 2 + ["b"] * 5
    title = words(confusion_figure(evaluation_of(true, said, ["a", "b"])))
    assert "2 of 5 a clips classified as b" in title
    assert "no confusion at all" in words(confusion_figure(evaluation_of(true, true, ["a", "b"])))


def test_variants_stand_side_by_side_on_one_scale():
    variants = [(sine(400), "original"), (0.5 * sine(400, 0.5), "half as loud"), (sine(800), "an octave up")]
    figure = variants_figure(variants, RATE_HZ, title="tones")
    said = words(figure)
    assert all(text in said for text in ("original", "half as loud", "an octave up", "tones"))
    pictures = images(figure)
    assert len({image.get_clim() for image in pictures}) == 1
    top = [float(np.max(image.get_array())) for image in pictures]
    assert top[0] - top[1] == pytest.approx(20 * np.log10(2), abs=0.3)
    many = variants_figure([(sine(400), str(n)) for n in range(30)], RATE_HZ)
    assert len(images(many)) == 12


def test_dollar_signs_in_names_are_drawn_and_powers_stay_formulas(tmp_path):
    nasty = ["$x{", "a$b^$", r"\$\frac$"]
    figure = confusion_figure(evaluation_of(nasty * 2, [*nasty, *nasty[::-1]], nasty))
    figure.suptitle("$not a formula{")
    axes = figure.add_axes((0.7, 0.1, 0.2, 0.2))
    axes.semilogy([1, 10, 100])
    save_figure(figure, tmp_path / "confusion.png")
    assert (tmp_path / "confusion.png").stat().st_size > 1000
    assert any(label.get_parse_math() for label in axes.get_yticklabels())


def test_names_that_no_font_can_draw_are_written_out(drawn, rng, tmp_path):
    title = "caf\udce9 \t 中 été $x$"
    figure = clip_figure(0.1 * rng.standard_normal(4000), 16_000, title=title)
    save_figure(figure, tmp_path / "names.png")
    texts = {text.get_text() for axes in figure.axes for text in [*axes.texts, axes.title, axes._left_title]}
    assert r"caf\udce9 \t \u4e2d été $x$" in texts


def test_twenty_labels_are_told_apart():
    labels = [f"l{number:02d}" for number in range(20)]
    lines, fills = label_lines(labels), label_fills(labels)
    assert len({tuple(map(str, line.values())) for line in lines.values()}) == 20
    assert len({(fill["facecolor"], fill["hatch"]) for fill in fills.values()}) == 20
    assert lines["l00"]["linestyle"] == "-"


def test_figures_draw_in_given_axes():
    from matplotlib import pyplot as plt

    evaluation = evaluation_of(["a", "a", "b"], ["a", "b", "b"], ["a", "b"])
    figure, (left, right) = plt.subplots(1, 2, figsize=(20, 8), layout="constrained")
    assert confusion_figure(evaluation, ax=left) is figure
    assert left.get_xlabel() == "predicted label"
    part = owl.show.calibration_figure(evaluation, ax=right)  # two panels in the place of the axes
    assert right not in figure.axes
    assert len(part.axes) == 2
    figure.canvas.draw()
    plt.close(figure)
    with pytest.raises(TypeError, match="ax must be Axes or None, got 3"):
        confusion_figure(evaluation, ax=3)
    with pytest.raises(TypeError, match="ax must be Axes of a grid"):
        owl.show.calibration_figure(evaluation, ax=plt.figure().add_axes((0, 0, 1, 1)))
    plt.close("all")
