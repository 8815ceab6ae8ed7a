"""Mistakes of users: each ends with a message that names the cause and the remedy, and writes nothing."""

import shutil
from pathlib import Path

import numpy as np
import pandas as pd
import pytest

import barn_owl as owl
from barn_owl.audio import write_audio
from barn_owl.cli.main import run as barn_owl
from barn_owl.clips import gather_folder, read_clip_table, write_clip_table
from barn_owl.errors import AudioError, ModelError, TableError
from helpers import RATE_HZ, able_plan, sound


@pytest.fixture
def here(tmp_path, monkeypatch) -> Path:
    monkeypatch.chdir(tmp_path)
    return tmp_path


def says(capfd, *words: str, code: int) -> str:
    assert barn_owl(list(words)) == code
    out, err = capfd.readouterr()
    assert "Traceback" not in err
    return " ".join((out + err).split())


def test_a_recording_in_place_of_the_run_is_named(here, capfd):
    write_audio("night.flac", np.zeros(RATE_HZ, np.float32), RATE_HZ)
    told = says(capfd, "tag", "night.flac", "first", "-o", "events.csv", code=2)
    assert "night.flac is a sound file, not a model" in told
    assert "barn-owl tag RUN RECORDINGS" in told


@pytest.mark.parametrize(
    ("content", "row"), [("file,label\na.wav,bell, small\n", 1), ("file,label\na.wav,x\nb.wav,bell, small\n", 2)]
)
def test_a_comma_without_quotes_is_named_by_row(here, content, row):
    Path("clips.csv").write_text(content)
    with pytest.raises(TableError, match=rf"clips.csv, row {row}: 3 cells, but the header has 2; .*double quotes"):
        read_clip_table("clips.csv")


def test_blank_cells_at_the_end_of_rows_do_no_harm(here):
    Path("clips.csv").write_text("file,label\na.wav,x,\nb.wav,y,\n")
    assert read_clip_table("clips.csv")["label"].tolist() == ["x", "y"]


def test_a_folder_of_one_label_is_refused(here, folder, capfd):
    told = says(capfd, "gather", str(folder / "hum"), "-o", "clips.csv", code=2)
    assert f"folders name the labels; gather {folder}, or read labels off the names: --names" in told
    assert not Path("clips.csv").exists()
    says(capfd, "gather", str(folder / "hum"), "--names", "{label}_{take}", "-o", "clips.csv", code=0)
    assert read_clip_table("clips.csv")["label"].nunique() == 4


def test_a_truth_label_that_the_events_lack_is_reported(here, capfd):
    rows = {"file": ["a.wav"] * 3, "start_s": [1.0, 2.0, 3.0], "end_s": [1.5, 2.5, 3.5]}
    pd.DataFrame(rows | {"label": ["bell", "gull", "gull"]}).to_csv("events.csv", index=False)
    pd.DataFrame(rows | {"label": ["bell", "seagull", "seagull"]}).to_csv("truth.csv", index=False)
    told = says(capfd, "score", "events.csv", "truth.csv", code=0)
    assert "the truth table has 'seagull', which no event has, and the events have 'gull'" in told


def test_a_table_moved_away_from_its_sounds_is_not_repaired_to_nothing(here, folder, capfd):
    shutil.copytree(folder, here / "clips")
    write_clip_table(gather_folder("clips", names="{group}_{take}").clips, "clips.csv")
    (here / "away").mkdir()
    shutil.move("clips.csv", "away/clips.csv")
    told = says(capfd, "check", "away/clips.csv", "--fix", "clean.csv", code=2)
    assert "none of the 48 files exists: was the table moved away from its sounds?" in told
    assert not Path("clean.csv").exists()


def test_a_repair_that_drops_most_clips_asks_first(here, folder, capfd):
    shutil.copytree(folder, here / "clips")
    clips = gather_folder("clips", names="{group}_{take}").clips
    write_clip_table(clips, "clips.csv")
    for file in clips["file"][:30]:
        Path(file).unlink()
    told = says(capfd, "check", "clips.csv", "--fix", "clean.csv", code=2)
    assert "clean.csv would lack 30 of 48 clips, more than half: 30 no file" in told
    says(capfd, "check", "clips.csv", "--fix", "clean.csv", "--force", code=0)
    assert len(read_clip_table("clean.csv")) == 18


def test_paths_with_backslashes_are_read(here, clips):
    shutil.copytree(Path(clips["file"][0]).parents[1], here / "clips")
    table = pd.DataFrame({"file": ["clips\\hum\\" + Path(clips["file"][0]).name], "label": ["hum"]})
    table = table.assign(file=[f"clips\\{Path(clips['file'][0]).parent.name}\\{Path(clips['file'][0]).name}"])
    table.to_csv("clips.csv", index=False)
    assert Path(read_clip_table("clips.csv")["file"][0]).is_file()


@pytest.mark.parametrize("start", [b"PK\x03\x04 spreadsheet", b"\xd0\xcf\x11\xe0 old spreadsheet"])
def test_a_spreadsheet_is_named(here, start):
    Path("clips.xlsx").write_bytes(start)
    with pytest.raises(
        TableError, match="clips.xlsx is a spreadsheet or an archive, not a text table; save it as CSV"
    ):
        read_clip_table("clips.xlsx")


def test_a_folder_in_place_of_a_table_names_gather(here, folder, capfd):
    assert "barn-owl gather makes a table of a folder" in says(capfd, "train", str(folder), "--run", "first", code=2)


def test_a_misspelled_run_is_suggested(here, capfd):
    Path("first").mkdir()
    assert "did you mean first?" in says(capfd, "evaluate", "firts", code=2)
    with pytest.raises(ModelError, match="did you mean first"):
        owl.load_model("firts")


@pytest.mark.parametrize(("text", "seconds"), [("0:11.6", 11.6), ("1:02", 62.0), ("2:00:00,5", 7200.5), ("3.5", 3.5)])
def test_times_on_the_clock_are_seconds(here, text, seconds):
    pd.DataFrame({"file": ["a.wav"], "start_s": [text], "label": ["x"]}).to_csv("events.csv", index=False)
    assert read_clip_table("events.csv")["start_s"][0] == seconds


def test_a_format_that_is_not_read_names_a_way_to_convert_it(here):
    Path("talk.m4a").write_bytes(b"\0\0\0 ftypM4A ")
    with pytest.raises(AudioError, match="ffmpeg -i talk.m4a talk.flac"):
        owl.audio_info("talk.m4a")


def test_a_tiny_file_has_no_bandwidth_to_complain_about(here, runs):
    write_audio("tiny.wav", sound("hum", np.random.default_rng(0))[:600], RATE_HZ)
    from barn_owl.tag.caveats import recording_caveats_of

    found = recording_caveats_of(runs["logistic"].model, "tiny.wav", pd.DataFrame({"label": []}))
    assert not [caveat for caveat in found if "contains nothing above" in caveat]


@pytest.mark.parametrize("ending", [".flac", ".wav", ".ogg"])
def test_a_sound_file_on_a_pipe_of_raw_samples_is_named(here, ending):
    write_audio(f"night{ending}", sound("hum", np.random.default_rng(0)), RATE_HZ)
    with Path(f"night{ending}").open("rb") as pipe, pytest.raises(AudioError, match="not raw samples"):
        list(owl.audio.stream_raw(pipe, from_hz=RATE_HZ))


def test_a_split_by_file_names_the_setting_that_train_needs(here, clips, capfd):
    write_clip_table(clips, "clips.csv")
    told = says(capfd, "split", "clips.csv", "--together", "file", "-o", "split.csv", code=0)
    assert "barn-owl train split.csv --run RUN --set split.together=file" in told
    divided = read_clip_table("split.csv").groupby("group")["split"].nunique()
    assert (divided > 1).any()
    assert "--set split.together=file" in says(capfd, "train", "split.csv", "--run", "first", code=2)


def test_settings_are_changed_on_the_command_line(here, clips, capfd):
    write_clip_table(clips, "clips.csv")
    says(capfd, "plan", "clips.csv", "--background", "still", "--set", "training.epochs=12", "--set", "cnn.size=tiny",
         "-o", "plan.toml", code=0)  # fmt: skip
    plan = owl.read_plan("plan.toml")
    assert (plan.training.epochs, plan.cnn.size, plan.background) == (12, "tiny", ["still"])
    assert "'wind'" in says(capfd, "plan", "clips.csv", "--background", "wind", code=2)
    assert "KEY=VALUE" in says(capfd, "plan", "clips.csv", "--set", "epochs", code=2)
    assert "training.epochs" in says(capfd, "plan", "clips.csv", "--set", "training.epochs=never", code=2)


def test_recordings_that_a_run_was_trained_on_are_named(here, runs, clips):
    run = runs["logistic"]
    trained = run.predictions.loc[run.predictions["split"] == "train", "file"].iloc[0]
    tested = run.predictions.loc[run.predictions["split"] == "test", "file"].iloc[0]
    assert owl.model.learned_from(run.folder, [trained, tested]) == [trained]
    assert owl.model.learned_from(run.folder / "model.safetensors", [trained]) == [trained]


def test_commands_that_compute_a_table_show_it_without_a_file(here, runs, clips, capfd):
    file = clips["file"][0]
    told = says(capfd, "classify", str(runs["logistic"].folder), file, code=0)
    assert "predicted" in told
    assert Path(file).stem in told
    told = says(capfd, "features", file, "--features", "level,pitch", code=0)
    assert "lowest" in told
    assert not list(here.iterdir())


def test_hours_of_an_event_table(here, capfd):
    rows = {"file": ["q_20260501_220000.wav"] * 2, "start_s": [1.0, 3700.0], "end_s": [2.0, 3701.0]}
    pd.DataFrame(rows | {"label": "bell"}).to_csv("events.csv", index=False)
    says(capfd, "hours", "events.csv", "-o", "hours.csv", code=0)
    counted = pd.read_csv("hours.csv").set_index("hour")["bell"]
    assert counted[counted > 0].to_dict() == {22: 1, 23: 1}


def test_clips_that_a_run_lacks_are_trained_on(runs, clips):
    run = runs["logistic"]
    night = pd.DataFrame({"file": ["night.wav"], "start_s": [1.0], "end_s": [2.0], "label": ["hum"], "group": [""]})
    split = owl.runs.split_like(pd.concat([clips, night, night.assign(label="new")]), run.folder)
    assert split["split"].tolist()[-2:] == ["train", ""]


def test_identical_clips_with_two_labels_are_both_dropped_and_the_copy_of_a_duplicate_goes(here, clips):
    folders = Path("clips")
    for label, groups in (("hum", "ab"), ("tick", "ab")):
        for group in groups:
            for take in range(3):
                samples = sound(label, np.random.default_rng([ord(group), take]))
                write_audio(folders / label / f"{group}_{take}.wav", samples, RATE_HZ)
    shutil.copy("clips/hum/b_1.wav", "clips/hum/COPY_1.wav")  # of a group that does not exist
    shutil.copy("clips/hum/a_0.wav", "clips/tick/a_9.wav")
    check = owl.check_clips(gather_folder("clips", names="{group}_{take}").clips)
    kept = {Path(file).name for file in check.repaired["file"]}
    assert "b_1.wav" in kept
    assert not kept & {"COPY_1.wav", "a_9.wav"}
    assert ("hum", "a_0.wav") not in {Path(file).parts[-2:] for file in check.repaired["file"]}


def test_plans_and_models_with_the_former_name_of_the_probability_are_read():
    assert able_plan("cnn", decoding={"min_confidence": 0.6}).decoding.min_known_probability == 0.6


def test_a_network_that_a_regression_beats_on_held_out_groups_is_not_kept(here, clips, capfd):
    write_clip_table(clips, "clips.csv")
    poor = able_plan("cnn", logistic={"penalty": 0.03}).but(training={"epochs": 1, "learning_rate": 1e-6})
    owl.learn.write_plan(poor, "plan.toml")
    arguments = ["train", "clips.csv", "--run", "best", "--plan", "plan.toml", "--classifier", "auto"]
    told = says(capfd, *arguments, code=0)
    assert "Keeping logistic." in told
    assert owl.open_run("best").model.classifier.name == "logistic"
    assert "exclude each other" in says(capfd, *arguments, "--seeds", "2", code=2)
