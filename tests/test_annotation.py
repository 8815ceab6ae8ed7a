"""Similarity search, harvesting of weakly labeled recordings, proposals of clips to label, and new labels."""

import json

import numpy as np
import pandas as pd
import pytest

import barn_owl as owl
from barn_owl.annotation import harvesting, similar_sounds
from barn_owl.annotation.similar_sounds import Example, similarity
from barn_owl.cli.main import run
from barn_owl.errors import AudioError, TableError
from barn_owl.model import load_model
from barn_owl.model.exemplars import packed, unpacked
from barn_owl.runs import train
from helpers import RATE_HZ, able_plan, assert_close, sound

KINDS = ("hum", "tick", "hiss")


def chirp(rng, at_hz):
    """Return a unique sound: half a second that glides from `at_hz` on, at any level."""
    t = np.arange(RATE_HZ // 2) / RATE_HZ
    tone = np.sin(2 * np.pi * (at_hz * t + 1.2 * at_hz * t * t)) * np.hanning(len(t))
    return (0.4 * rng.uniform(0.5, 1) * tone).astype(np.float32)


def noise(rng, seconds):
    return (0.005 * rng.standard_normal(round(seconds * RATE_HZ))).astype(np.float32)


def with_sounds(rng, seconds, sounds):
    """Return noise with sounds, and their places."""
    samples, places = noise(rng, seconds), []
    for slot, one in zip(np.array_split(np.arange(len(samples)), len(sounds)), sounds, strict=True):
        at = int(slot[0] + rng.integers(0, max(len(slot) - len(one), 1)))
        samples[at : at + len(one)] += one
        places.append((at / RATE_HZ, (at + len(one)) / RATE_HZ))
    return samples, places


@pytest.fixture(scope="module")
def weak(tmp_path_factory):
    """Weakly labeled recordings: chirps of a kind in each, and the same distractor in all."""
    folder, rng = tmp_path_factory.mktemp("weak"), np.random.default_rng(4)
    rows, truth = [], []
    for number in range(18):
        label = ("low", "middle", "high")[number % 3]
        hertz = {"low": 300, "middle": 900, "high": 2200}[label]
        sounds = [chirp(rng, hertz * rng.uniform(0.95, 1.05)), sound("tick", rng, 0.6), sound("tick", rng, 0.6),
                  chirp(rng, hertz * rng.uniform(0.95, 1.05)), sound("hiss", rng, 0.4)]  # fmt: skip
        samples, places = with_sounds(rng, 20, sounds)
        path = str(folder / f"rec{number:02d}.wav")
        owl.write_audio(path, samples, RATE_HZ)
        rows.append((path, label))
        truth += [(path, *places[at], label) for at in (0, 3)]
    recordings = pd.DataFrame(rows, columns=["file", "label"])
    return recordings, pd.DataFrame(truth, columns=["file", "start_s", "end_s", "label"])


def hits(found, truth):
    """Share of reported places that are at least half within a true place."""
    right = []
    for row in found.itertuples():
        own = truth[truth["file"] == row.file]
        over = np.minimum(row.end_s, own["end_s"]) - np.maximum(row.start_s, own["start_s"])
        right.append((over > 0.4 * (row.end_s - row.start_s)).any())
    return float(np.mean(right))


def test_similarity_is_the_cosine_of_patches(rng):
    levels = rng.uniform(0, 20, (300, 48)).astype(np.float32)
    levels[:, [0, -1]] = 0
    example = levels[100:140] * 0.5
    (scores,) = similarity(levels, [Example("x", example)])
    wanted = [
        max(
            float((np.roll(example, shift, axis=1) * levels[at : at + 40]).sum())
            for shift in (-1, 0, 1)
        ) / np.linalg.norm(example) / np.linalg.norm(levels[at : at + 40])
        for at in range(250)
    ]  # fmt: skip
    assert scores.argmax() == 100
    assert scores[100] == pytest.approx(1, abs=1e-5)
    np.testing.assert_allclose(scores[:250], wanted, atol=0.02)  # a shifted example loses its outer bands


def test_the_like_of_an_example_is_found_wherever_it_is(weak, tmp_path):
    recordings, truth = weak
    own = truth[truth["label"] == "middle"].reset_index(drop=True)
    found = owl.annotation.find_similar(own.head(1), list(recordings["file"]), most=len(own), cache=tmp_path)
    assert found["file"].iloc[0] == own["file"].iloc[0]
    assert found["start_s"].iloc[0] == pytest.approx(own["start_s"].iloc[0], abs=0.05)
    assert hits(found, own) > 0.9
    again = owl.annotation.find_similar(own.head(1), list(recordings["file"]), most=len(own), cache=tmp_path)
    pd.testing.assert_frame_equal(found, again)


@pytest.mark.parametrize("quiets", [1, 2])
def test_a_recording_in_pieces_is_the_recording_in_one(weak, monkeypatch, tmp_path, quiets):
    recordings, truth = weak
    path, rate_hz = str(tmp_path / "long.wav"), similar_sounds.FRONT_END.rate_hz
    minute = np.concatenate([owl.read_audio(file, rate_hz=rate_hz)[0] for file in recordings["file"].head(3)])
    owl.write_audio(path, minute[: -rate_hz // 3], rate_hz)
    frames = similar_sounds.FRONT_END.frames(owl.read_audio(path)[0])
    whole = owl.annotation.find_similar(truth.head(3), [path], least=0.2)
    parts = harvesting.cut_parts(path, cache=None)
    monkeypatch.setattr(similar_sounds, "PIECE", quiets)
    pieces = list(similar_sounds.pieces_of(path, None))
    assert len(pieces) > 2
    joined = np.concatenate([piece.levels for piece in pieces])
    assert_close(joined, similar_sounds.levels_above_quiet(frames), rtol=1e-5, atol=1e-5)
    (tmp_path / "no-folder").touch()  # where nothing can be kept, the recording is read again
    for cache in (None, tmp_path / "cache", tmp_path / "no-folder"):
        found = owl.annotation.find_similar(truth.head(3), [path], least=0.2, cache=cache)
        pd.testing.assert_frame_equal(found, whole, rtol=1e-3)
    for cache in (None, tmp_path / "no-folder"):
        for now, before in zip(harvesting.cut_parts(path, cache=cache), parts, strict=True):
            np.testing.assert_allclose(now, before, rtol=1e-3, atol=1e-3)


def test_finding_passes_over_what_cannot_be_read_and_says_so(weak, tmp_path):
    recordings, truth = weak
    (tmp_path / "broken.wav").write_bytes(b"RIFF nonsense")
    found = owl.annotation.find_similar(truth.head(1), [recordings["file"][0], str(tmp_path / "broken.wav")])
    assert len(found) > 0
    assert "broken.wav" in found.attrs["skipped"][0]
    for cache in (None, tmp_path / "cache"):
        with pytest.raises(AudioError, match=r"broken\.wav"):
            owl.annotation.find_similar(truth.head(1), [str(tmp_path / "broken.wav")], cache=cache)
        with pytest.raises(AudioError, match=r"none\.wav does not exist"):
            owl.annotation.find_similar(truth.head(1), [str(tmp_path / "none.wav")], cache=cache)


def test_a_recording_in_which_nothing_stands_out_has_no_parts(weak, tmp_path, rng):
    recordings, _ = weak
    owl.write_audio(tmp_path / "calm.wav", noise(rng, 25), RATE_HZ)
    (tmp_path / "empty.wav").write_bytes((tmp_path / "calm.wav").read_bytes()[:44])
    calm = pd.DataFrame(
        {"file": [str(tmp_path / name) for name in ("calm.wav", "empty.wav")], "label": ["low", "high"]}
    )
    table = pd.concat([recordings, calm], ignore_index=True)
    assert set(owl.harvest(table).clips["file"]) <= set(recordings["file"])
    with pytest.raises(TableError, match="no clips to propose|none of the clips"):
        owl.annotation.propose(calm)


def test_an_example_in_which_nothing_stands_out_is_told(weak):
    recordings, _ = weak
    samples, rate_hz = owl.read_audio(recordings["file"][0])
    loud, quiet = np.tile(samples[: 2 * rate_hz], 2), np.zeros(rate_hz, np.float32)
    path = recordings["file"][0].replace("rec00", "gap")
    owl.write_audio(path, np.concatenate([loud, quiet, loud]), rate_hz)
    example = pd.DataFrame({"file": [path], "start_s": [4.3], "end_s": [4.7]})
    with pytest.raises(AudioError, match=r"nothing stands out .* 4\.3 s to 4\.7 s"):
        owl.annotation.find_similar(example, [path])


def test_known_clips_may_repeat_themselves(clips):
    known = pd.concat([clips.head(8), clips.head(8)], ignore_index=True)
    once = owl.annotation.propose(clips.tail(20), count=5, known=clips.head(8))
    pd.testing.assert_frame_equal(owl.annotation.propose(clips.tail(20), count=5, known=known), once)


def test_parts_with_the_labels_sound_are_harvested_and_others_are_not(weak):
    recordings, truth = weak
    harvest = owl.harvest(recordings, per_recording=2, least=0.5, background="none")
    clips = harvest.clips[harvest.clips["label"] != "none"]
    assert clips.groupby("file").size().max() == 2
    assert len(clips) > 0.9 * len(truth)
    assert hits(clips, truth) > 0.9
    quiet = harvest.clips[harvest.clips["label"] == "none"]
    assert len(quiet) > 10
    for row in quiet.itertuples():  # no sound, of any label, reaches into background
        events = truth[truth["file"] == row.file]
        assert (np.minimum(row.end_s, events["end_s"]) <= np.maximum(row.start_s, events["start_s"])).all()
    assert harvest.rounds["held_out"].max() > 0.9
    assert not harvest.skipped_labels


def test_a_label_whose_sound_is_absent_or_that_has_too_few_recordings_is_left_out(weak, tmp_path):
    recordings, _ = weak
    absent, rng = [], np.random.default_rng(0)
    for number in range(5):
        samples, _ = with_sounds(rng, 20, [sound("tick", rng, 0.6), sound("hiss", rng, 0.4)])
        absent.append((str(tmp_path / f"absent{number}.wav"), "absent"))
        owl.write_audio(absent[-1][0], samples, RATE_HZ)
    single = recordings.tail(1).assign(label="single")
    more = pd.concat(
        [recordings.head(17), pd.DataFrame(absent, columns=["file", "label"]), single], ignore_index=True
    )
    harvest = owl.harvest(more, least=0.8, background="none")
    assert {"absent", "single"} <= set(harvest.skipped_labels)
    assert "low" not in harvest.skipped_labels
    assert "1 recordings" in harvest.skipped_labels["single"]
    assert "absent" not in set(harvest.clips["label"])
    # Recordings whose label was not found may contain it: their rest is not background.
    assert "none" in set(harvest.clips["label"])
    assert not {path for path, _ in absent} & set(harvest.clips["file"])


def test_proposals_are_spread_over_all_kinds(folder):
    rows = [(str(path), path.parent.name) for path in sorted(folder.rglob("*.wav"))]
    clips = pd.DataFrame(rows, columns=["file", "label"])
    # A pool of clips with a much more frequent kind.
    rare = clips.groupby("label").head(2)
    heap = pd.concat([clips[clips["label"] == "hum"], rare]).drop_duplicates().reset_index(drop=True)
    proposed = owl.annotation.propose(heap, count=6)
    assert proposed["rank"].tolist() == list(range(1, 7))
    assert set(proposed["label"]) >= {"hum", "hiss", "tick"}
    known = owl.annotation.propose(heap, count=4, known=heap[heap["label"] == "hum"])
    assert (known["label"] != "hum").sum() >= 3


def test_a_model_makes_what_it_is_unsure_of_come_first(runs, clips):
    model = runs["cnn"].model
    proposed = owl.annotation.propose(clips, count=10, model=model)
    every, _ = owl.predict(model, clips)
    assert proposed["score"].mean() < every["score"].mean()
    assert {"predicted", "why", "gain"} <= set(proposed)
    # With the same known clips, candidates of a rare label come first.
    known, heap = clips.iloc[::9], clips.drop(index=clips.index[::9]).reset_index(drop=True)
    stills = [
        owl.annotation.propose(heap, count=12, model=model, known=known.assign(label=label))["predicted"]
        .eq("still")
        .sum()
        for label in ("still", "hum")
    ]
    assert stills[0] < stills[1]


def test_of_recordings_the_parts_that_stand_out_are_proposed(weak):
    recordings, truth = weak
    long = recordings.head(4).copy()
    joined = [owl.read_audio(file)[0] for file in long["file"]]
    path = str(truth["file"][0]).replace("rec00", "long")
    owl.write_audio(path, np.concatenate(joined), RATE_HZ)
    proposed = owl.annotation.propose(pd.DataFrame({"file": [path]}), count=8)
    assert len(proposed) == 8
    assert proposed["end_s"].notna().all()


def test_bad_heaps_are_told(tmp_path):
    (tmp_path / "broken.wav").write_bytes(b"nothing")
    with pytest.raises(TableError, match="none of the clips"):
        owl.annotation.propose(pd.DataFrame({"file": [str(tmp_path / "broken.wav")]}))
    with pytest.raises(TableError, match="no clips to propose"):
        owl.annotation.propose(pd.DataFrame({"file": []}))


def test_levels_are_kept_to_half_a_step(rng):
    frames = rng.uniform(-140, 20, (50, 48)).astype(np.float32)
    back = unpacked(packed(frames, -140.0), -140.0, 48)
    assert back.dtype == np.float32
    assert np.abs(back - frames).max() <= 0.376
    with pytest.raises(ValueError, match="shape"):
        unpacked(np.zeros((3, 5), np.uint8), -140.0, 48)


def test_a_new_label_is_learnt_from_a_model_file_alone_and_old_ones_stay(clips, tmp_path):
    plan = able_plan("cnn").but(training={"exemplars": 6})
    old, new = clips[clips["label"] != "tick"], clips[clips["label"] == "tick"]
    before = train(old, tmp_path / "before", plan)
    file = tmp_path / "theirs.safetensors"
    before.model.save(file)
    model = load_model(file)
    assert sorted({kept.label for kept in model.exemplars}) == ["hiss", "hum", "still"]
    for label in ("hiss", "hum", "still"):
        assert sum(kept.label == label and not kept.held_out for kept in model.exemplars) == 6
    adopted = owl.runs.plan_from_model(plan, model, str(file))
    assert adopted.background == ["still"]
    after = train(new, tmp_path / "after", adopted)
    assert after.model.labels == ["hiss", "hum", "still", "tick"]
    said, _ = owl.predict(after.model, clips)
    right = said.assign(right=said["predicted"] == said["label"]).groupby("label")["right"].mean()
    assert right.min() > 0.7, right
    table = owl.runs.exemplar_table(model, after.model, after.predictions).set_index("label")
    assert table["exemplars"].to_dict() == {"hiss": 6, "hum": 6, "still": 6, "tick": 0}
    assert table.loc["tick", "new clips"] > 0
    assert table["now"].drop("tick").mean() > 0.7


def test_the_commands_of_the_loop(weak, folder, tmp_path, capsys):
    recordings, truth = weak
    owl.write_clip_table(recordings, tmp_path / "recordings.csv")
    out = str(tmp_path / "found.csv")
    first = truth.iloc[0]
    at = ["--at", str(first["start_s"]), str(first["end_s"])]
    where = ["--in", str(tmp_path / "recordings.csv")]
    assert run(["find", first["file"], *at, *where, "-o", out, "--max-matches", "5", "--label", "low"]) == 0
    assert "Wrote 5 matches" in capsys.readouterr().out
    assert set(owl.read_clip_table(out)["label"]) == {"low"}
    harvested, page = str(tmp_path / "harvested.csv"), tmp_path / "harvested.html"
    requested = ["harvest", str(tmp_path / "recordings.csv"), "-o", harvested, "--min-score", "0.5"]
    assert run([*requested, "--page", str(page)]) == 0
    assert "held-out" in capsys.readouterr().out
    assert page.is_file()
    proposed = str(tmp_path / "next.csv")
    requested = ["propose", str(folder), "-o", proposed, "--count", "4", "--json"]
    assert run([*requested, "--page", str(tmp_path / "next.html")]) == 0
    assert json.loads(capsys.readouterr().out)["proposed"] == 4
    items = owl.annotation.review_items(owl.read_events(proposed), stretches=0)
    assert items["informativeness"].is_monotonic_decreasing
    assert run(["harvest", str(folder), "-o", harvested, "--force"]) == 2
    assert run(["find", first["file"], str(folder), *at, *where, "-o", "-"]) == 2
    assert "--at" in capsys.readouterr().err


def test_earlier_labels_are_judged_on_clips_that_no_training_used(clips, tmp_path):
    plan = able_plan("cnn").but(training={"exemplars": 4})
    before = train(clips[clips["label"] != "tick"], tmp_path / "before", plan)
    held_out = [one for one in before.model.exemplars if one.held_out]
    assert {one.label for one in held_out} == {"hiss", "hum", "still"}
    assert len(held_out) == 3 * 2
    model = load_model(before.folder)
    assert [one.held_out for one in model.exemplars] == [one.held_out for one in before.model.exemplars]
    two_groups = clips[(clips["label"] == "tick") & clips["group"].isin(sorted(clips["group"].unique())[:2])]
    after = train(two_groups, tmp_path / "after", owl.runs.plan_from_model(plan, model, str(before.folder)))
    assert set(after.predictions["split"]) == {"train", "test"}
    assert sum(one.held_out for one in after.model.exemplars if one.label != "tick") == len(held_out)
    caveats = " ".join(after.evaluate().caveats)
    assert "Only one label has clips here" in caveats
    assert "chance" not in caveats
    assert "regression" not in caveats
    table = owl.runs.exemplar_table(model, after.model, after.predictions).set_index("label")
    assert table["held out"].to_dict() == {"hiss": 2, "hum": 2, "still": 2, "tick": 0}
