import io
import json
import shutil
import subprocess
import sys

import numpy as np
import pandas as pd
import pytest

from barn_owl.archive.pieces import score_pieces
from barn_owl.audio import read_audio, write_audio
from barn_owl.cli.main import COMMANDS, run
from barn_owl.clips import read_clip_table, write_clip_table
from barn_owl.features import read_features
from barn_owl.learn import write_plan
from helpers import leave_figures_blank, small_plan, write_folder


@pytest.fixture
def owl(capsys):
    """Run a command; return exit code, standard output and standard error."""

    def call(*arguments):
        code = run([str(argument) for argument in arguments])
        said = capsys.readouterr()
        return code, said.out, said.err

    return call


def test_help_fits_one_screen_and_names_every_command(owl):
    code, out, _ = owl("--help")
    assert code == 0
    assert len(out.splitlines()) < 52
    for name in COMMANDS:
        assert name in out
        assert owl(name, "--help")[0] == 0


@pytest.mark.usefixtures("drawn")
def test_from_folder_to_events(owl, tmp_path, folder, long_recording):
    table, where, events = tmp_path / "clips.csv", tmp_path / "run", tmp_path / "events.csv"
    write_plan(small_plan("cnn"), tmp_path / "plan.toml")
    code, out, err = owl("gather", folder, "--names", "{group}_{take}", "-o", table)
    assert (code, err) == (0, "")
    assert "Wrote 48 clips of 4 labels" in out
    assert f"Next: barn-owl check {table}" in out

    code, out, err = owl("train", table, "--run", where, "--plan", tmp_path / "plan.toml", "--seed", 1)
    assert code == 0
    assert "5/5" in out
    assert "majority class" in out
    assert "reading clips: 48 of 48" in err
    assert (where / "figures" / "confusion.png").stat().st_size > 10_000

    with pytest.MonkeyPatch.context() as patch:
        leave_figures_blank(patch)  # as in training
        code, out, _ = owl("evaluate", where, "--split", "train", "--json")
        assert code == 0
        assert json.loads(out)["split"] == "train"
        code, out, _ = owl("evaluate", where, table)
        assert "clips: 48 clips" in out
    assert read_clip_table(where / "evaluations" / "clips" / "predictions.csv")["predicted"].notna().all()

    figure = tmp_path / "night.png"
    code, out, _ = owl("tag", where, long_recording, "-o", events, "--figure", figure, "--threshold", 0.5)
    assert code == 0
    assert "in 1 of 1 recordings" in out
    assert figure.stat().st_size > 10_000
    assert len(read_clip_table(events)) >= 1
    code, out, _ = owl("tag", where, long_recording, "-o", "-")
    assert out.startswith("file,start_s,end_s,label,score")


def test_look_at_a_file_a_folder_and_a_table(owl, tmp_path, folder, long_recording):
    code, out, _ = owl("look", long_recording, "-o", tmp_path / "clip.png")
    assert code == 0
    assert "rate_hz         16000 Hz" in out
    code, out, _ = owl("look", folder, "-o", tmp_path / "look", "--examples", 2)
    assert code == 0
    for name in ("facts.csv", "gallery.png", "spectra.png", "filter-bank.png"):
        assert (tmp_path / "look" / name).is_file()
    assert len(pd.read_csv(tmp_path / "look" / "facts.csv")) == 48
    code, out, _ = owl("look", long_recording, "--json")
    assert json.loads(out)["channels"] == 1
    minutes = tmp_path / "minutes.wav"
    write_audio(minutes, np.tile(read_audio(long_recording)[0], 8), 16_000)
    assert owl("look", minutes, "-o", tmp_path / "overview.png")[0] == 0
    assert (tmp_path / "overview.png").is_file()


def test_odd_files_are_told_one_by_one_and_the_good_ones_are_looked_at(owl, tmp_path, long_recording):
    heap = tmp_path / "heap"
    heap.mkdir()
    write_audio(heap / "good.wav", 0.3 * np.sin(np.arange(16_000) * 0.2), 16_000)
    write_audio(heap / "blink.wav", np.ones(100), 16_000)
    (heap / "empty.wav").write_bytes(b"")
    (heap / "text.flac").write_text("not a sound")
    code, out, err = owl("look", heap, "--json")
    assert code == 0, err
    skipped = json.loads(out)["skipped"]
    assert "is empty (0 bytes)" in skipped[str(heap / "empty.wav")]
    assert str(heap / "text.flac") in skipped
    assert len(skipped) == 2
    facts = json.loads(owl("look", heap / "good.wav", "--json")[1])
    assert facts["peak_db"] == pytest.approx(-10.46, abs=0.05)
    assert json.loads(owl("look", heap / "blink.wav", "--json")[1])["loudness_lufs"] is None
    code, _, err = owl("look", heap / "empty.wav")
    assert (code, "is empty (0 bytes)" in err) == (2, True)

    features = ("features", heap / "blink.wav", "--features", "level,shape")
    code, _, err = owl(*features, "-o", tmp_path / "short.csv")
    assert code == 2
    assert "too short for one frame of 32 ms; pad_short fills" in err
    assert owl(*features, "-o", tmp_path / "short.csv", "--pad-short")[0] == 0
    assert len(read_features(tmp_path / "short.csv")) == 1
    code, _, err = owl("features", heap / "good.wav", "--features", "centriod", "-o", tmp_path / "x.csv")
    assert (code, "did you mean centroid?" in err) == (2, True)


def test_from_a_heap_to_a_clean_split_table(owl, tmp_path, folder):
    heap = tmp_path / "heap"
    shutil.copytree(folder, heap)
    write_audio(heap / "hum" / "rec1_90.wav", np.zeros(9000), 16_000)
    (heap / "hum" / "rec2_91.wav").write_bytes((heap / "hum" / "rec2_02.wav").read_bytes())
    table, clean = tmp_path / "clips.csv", tmp_path / "clean.csv"
    owl("gather", heap, "--names", "{group}_{take}", "--relabel", "tick=tock", "-o", table)
    code, out, err = owl(
        "check", table, "-o", tmp_path / "findings.csv", "--fix", clean, "--figure", tmp_path / "c.png"
    )
    assert code == 0, "a silent clip is an error, but the repaired table leaves it out"
    assert "error: silent (1)" in out
    assert "reading clips: 50 of 50" in err
    findings = pd.read_csv(tmp_path / "findings.csv")
    assert findings["severity"].iloc[0] == "error"
    assert (tmp_path / "c.png").is_file()
    assert len(read_clip_table(clean)) == 48
    assert owl("check", clean, "--quiet")[0] == 0
    said = json.loads(owl("check", clean, "--no-audio", "--json")[1])
    assert said["counts"]["error"] == 0
    assert owl("check", clean, "-o", tmp_path / "findings.csv")[0] == 1  # it exists

    code, out, _ = owl("split", clean, "-o", tmp_path / "split.csv", "--seed", 2)
    assert code == 0
    assert "reached: train 50%, validation 25%, test 25%" in out
    before = read_clip_table(tmp_path / "split.csv")
    later = pd.concat([before.drop(columns="split"), before.head(1).assign(file="new.wav", group="rec9")])
    write_clip_table(later, tmp_path / "later.csv")
    assert (
        owl("split", tmp_path / "later.csv", "--previous", tmp_path / "split.csv", "-o", tmp_path / "l.csv")[0] == 0
    )
    assert read_clip_table(tmp_path / "l.csv")["split"].tolist()[:-1] == before["split"].tolist()
    assert owl("split", clean, "--folds", 4, "-o", tmp_path / "folds.csv")[0] == 0
    assert owl("split", tmp_path / "folds.csv", "--fold", 3, "-o", tmp_path / "fold3.csv")[0] == 0
    fold = read_clip_table(tmp_path / "fold3.csv")
    assert (fold["split"] == "test").equals(fold["fold"] == "3")
    code, _, err = owl("split", clean, "--folds", 9, "-o", tmp_path / "x.csv")
    assert (code, "there are 4 groups for 9 folds" in err) == (2, True)
    assert owl("split", clean, "--by-time", "--folds", 3, "-o", tmp_path / "x.csv")[0] == 2


def test_variants_are_written_only_when_wished(owl, tmp_path, clips, monkeypatch):
    code, out, _ = owl(
        "look", clips["file"][0], "-o", tmp_path / "one", "--variants", 3, "--probability", 1, "--seed", 5
    )
    assert code == 0
    assert len(list((tmp_path / "one").glob("*.wav"))) == 3
    assert (tmp_path / "one" / "variants.png").is_file()
    assert "pitch" in out
    write_clip_table(clips.head(6).assign(split="train"), tmp_path / "clips.csv")
    monkeypatch.setattr("sys.stdin", io.StringIO("n\n"))
    code, out, _ = owl("look", tmp_path / "clips.csv", "-o", tmp_path / "many", "--variants", 2)
    assert code == 130
    assert "12 files, about 0 MB" in out
    assert not (tmp_path / "many").exists()
    arguments = ("look", tmp_path / "clips.csv", "-o", tmp_path / "many", "--variants", 2, "--yes")
    assert owl(*arguments, "--background", clips["label"][0])[0] == 0
    made = read_clip_table(tmp_path / "many" / "clips.csv")
    assert len(made) == 12
    assert set(made["split"]) == {"train"}
    assert made["changes"].str.contains("background").any()
    assert owl(*arguments)[0] == 1  # it exists


def test_features_of_a_file_and_of_a_table_with_ranking(owl, tmp_path, clips, long_recording):
    table = tmp_path / "clips.csv"
    clips.to_csv(table, index=False)
    code, out, _ = owl(
        "features",
        long_recording,
        "--features",
        "level,pitch,mfcc",
        "-o",
        tmp_path / "f.csv",
        "--figures",
        tmp_path / "tracks",
    )
    assert code == 0
    assert "frames of 15 features" in out
    assert list(read_features(tmp_path / "f.csv"))[:3] == ["time_s", "level", "pitch"]
    assert (tmp_path / "tracks" / "tracks.png").is_file()
    code, out, _ = owl(
        "features", table, "--features", "mfcc,shape", "-o", tmp_path / "t.parquet", "--rank", tmp_path / "r.csv",
        "--figures", tmp_path / "figures", "--cache", tmp_path / "cache", "--pool", "mean,quantile 0.9",
        "--scatter", "mean of centroid", "mean of mfcc 1",
    )  # fmt: skip
    assert code == 0
    assert "48 rows of 44 features" in out
    assert "same_as: a higher-ranked feature" in " ".join(out.split())
    assert len(read_features(tmp_path / "r.csv")) == 44
    for name in ("distributions", "map", "scatter"):
        assert (tmp_path / "figures" / f"{name}.png").is_file()


@pytest.fixture(scope="module")
def long_recording(tmp_path_factory):
    from helpers import RATE_HZ, sound

    rng = np.random.default_rng(0)
    path = tmp_path_factory.mktemp("night") / "night.flac"
    write_audio(path, np.concatenate([sound(kind, rng, 4.0) for kind in ("hum", "tick", "hiss", "hum")]), RATE_HZ)
    return path


@pytest.mark.parametrize(
    ("arguments", "code", "message"),
    [
        (["gathr"], 2, "there is no command 'gathr'; did you mean gather?"),
        (["gather", "-o", "x.csv"], 2, "Missing argument 'SOURCES...'"),
        (["gather", "{tmp}/nowhere", "-o", "x.csv"], 2, "nowhere does not exist"),
        (["gather", "{folder}", "--column", "a", "-o", "x"], 2, "--column, --encoding and --audio go with a table"),
        (["gather", "{table}", "--column", "a", "-o", "x"], 2, "--column takes two names with ="),
        (["gather", "{table}", "--names", "a", "-o", "x"], 2, "--names goes with a folder"),
        (["gather", "{folder}", "-o", "{table}"], 1, "choose another name, or overwrite it (--force)"),
        (["train", "{tmp}/none.csv", "--run", "{tmp}/r"], 2, "none.csv does not exist"),
        (["train", "{table}", "--run", "{run}"], 1, "exists and is not empty"),
        (["train", "{table}", "--run", "{tmp}/r", "--background", "sea"], 2, "no clip is labeled 'sea'"),
        (["evaluate", "{tmp}"], 2, "is not the folder of a finished run"),
        (["evaluate", "{run}", "{unknown}"], 2, "the model does not know 'drone'; it knows hiss, hum, still, tick"),
        (["tag", "{table}", "x.wav", "-o", "{tmp}/e.csv"], 2, "is not a model file"),
        (["tag", "{run}", "{tmp}/no.wav", "-o", "{tmp}/e.csv"], 2, "no recording could be tagged"),
        (["tag", "{run}", "x.wav", "-o", "{table}"], 1, "already exists"),
        (
            ["tag", "{run}", "x.wav", "-o", "{tmp}/e.csv", "--release-threshold", 0.95],
            2,
            "release_threshold must be at most threshold=",
        ),
        (["look", "{tmp}/none.csv"], 2, "none.csv does not exist"),
        (["look", "{tmp}/bad.flac"], 2, "bad.flac is empty (0 bytes)"),
        (["look", "{table}", "-o", "{run}"], 1, "exists and is not empty"),
        (["features", "{table}", "--features", "mfc", "-o", "{tmp}/f.csv"], 2, "did you mean mfcc?"),
        (["features", "{table}", "--pool", "mode", "-o", "{tmp}/f.csv"], 2, "there is no statistic 'mode'"),
        (
            ["features", "{table}", "-o", "{tmp}/f.doc"],
            1,
            "the ending says what is written, here one of .csv, .parquet, .npz",
        ),
        (
            ["features", "{table}", "-o", "{tmp}/f.csv", "--figures", "{tmp}/f", "--scatter", "mean of mel", "x"],
            2,
            "unknown feature 'mean of mel'; did you mean mean of mel",
        ),
        (["features", "{table}", "-o", "{tmp}/f.csv", "--scatter", "a", "b"], 2, "--scatter needs --figures"),
        (["features", "{table}", "-o", "{table}"], 1, "already exists"),
        (["features", "{table}", "-o", "{tmp}/f.csv", "--figures", "{run}"], 1, "exists and is not empty"),
        (["demo", "{run}"], 1, "exists and is not empty"),
    ],
)
def test_mistakes_are_told_without_a_traceback(owl, tmp_path, folder, runs, clips, arguments, code, message):
    table, unknown = tmp_path / "clips.csv", tmp_path / "unknown.csv"
    clips.to_csv(table, index=False)
    clips.head(3).assign(label="drone").to_csv(unknown, index=False)
    (tmp_path / "bad.flac").write_bytes(b"")
    places = {"tmp": tmp_path, "folder": folder, "run": runs["cnn"].folder, "table": table, "unknown": unknown}
    got, out, err = owl(*[str(argument).format(**places) for argument in arguments])
    assert (got, message in err) == (code, True), err
    assert "Traceback" not in out + err
    assert not (tmp_path / "r").exists()
    assert not (tmp_path / "e.csv").exists()


def test_a_bad_recording_is_passed_over_and_the_rest_is_tagged(owl, tmp_path, runs, long_recording):
    (tmp_path / "bad.wav").write_bytes(b"")
    code, out, err = owl("tag", runs["cnn"].folder, tmp_path / "bad.wav", long_recording, "-o", tmp_path / "e.csv")
    assert code == 0
    assert "in 1 of 2 recordings" in out
    assert "bad.wav is empty (0 bytes)" in err


def test_ctrl_c_ends_with_130(owl, tmp_path, clips, monkeypatch):
    def stop(*arguments, **options):
        raise KeyboardInterrupt

    clips.to_csv(tmp_path / "clips.csv", index=False)
    monkeypatch.setattr("barn_owl.runs.training.fit", stop)
    assert owl("train", tmp_path / "clips.csv", "--run", tmp_path / "run")[0] == 130
    assert not (tmp_path / "run").exists()


def test_ctrl_c_while_tagging_keeps_the_recordings_that_are_done(owl, tmp_path, runs, long_recording, monkeypatch):
    def score(bundle, **options):
        if bundle[0].path == "second.wav":
            raise KeyboardInterrupt
        return score_pieces(bundle, **options)

    monkeypatch.setattr("barn_owl.archive.tagging.score_pieces", score)
    files = long_recording, "second.wav"
    code, _, err = owl("tag", runs["cnn"].folder, *files, "-o", tmp_path / "e.csv", "--workers", "1")
    assert code == 130
    assert "stopped after 1 of 2 recordings" in err
    assert set(read_clip_table(tmp_path / "e.csv")["file"]) == {str(long_recording)}


def test_quiet_says_nothing_and_json_only_json(owl, tmp_path):
    folder = write_folder(tmp_path / "in", seed=1, clips=3)
    assert owl("gather", folder, "-o", tmp_path / "a.csv", "--quiet") == (0, "", "")
    code, out, err = owl("gather", folder, "-o", tmp_path / "b.csv", "--json")
    assert (code, err) == (0, "")
    assert json.loads(out)["labels"] == {"hiss": 3, "hum": 3, "still": 3, "tick": 3}


def test_demo_does_the_whole_job(demo):
    for name in ("clips.csv", "events.csv", "truth.csv", "night.png", "run/model.safetensors"):
        assert (demo / name).is_file()
    said = (demo / "said.txt").read_text()
    assert "balanced accuracy" in said
    assert "Next, open:" in said
    truth = pd.read_csv(demo / "truth.csv")
    assert truth["unknown"].notna().any()


def test_help_and_import_load_nothing_heavy():
    script = "import sys, barn_owl.cli.main as m; m.run(['--help']); print(sorted(sys.modules), file=sys.stderr)"
    loaded = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=True).stderr
    for heavy in ("numpy", "scipy", "pandas", "matplotlib", "rich", "pydantic"):
        assert f"'{heavy}'" not in loaded


def test_judging_from_the_command_line(owl, tmp_path, ranking, folder):
    cnn, trees = (shutil.copytree(ranking[0] / classifier, tmp_path / classifier) for classifier in ("cnn", "trees"))
    code, out, err = owl("evaluate", cnn, "--by", "group", "--target", "precision=0.9")
    assert code == 0, err
    assert "Thresholds stored in the model: hiss" in out
    assert "by group" in out
    assert "one group" in err
    for name in ("report.html", "labels.csv", "mistakes.csv", "figures/calibration.png"):
        assert (cnn / name).stat().st_size > 50
    code, out, err = owl("evaluate", cnn, "--json")
    assert code == 0, err
    assert set(json.loads(out)["scores"]["accuracy"]) >= {"value", "low", "majority"}

    code, out, _ = owl("evaluate", cnn, trees, "-o", tmp_path / "both.html")
    assert code == 0
    assert "classifier" in out
    assert "trees against cnn" in out
    assert json.loads(owl("evaluate", cnn, trees, "--json")[1])["clips"] > 5
    assert owl("evaluate", cnn, trees, "-o", tmp_path / "both.html")[0] == 1
    assert owl("evaluate", cnn, trees, "--clips", tmp_path / "none.csv")[0] == 2

    named = tmp_path / "named.csv"
    code, out, err = owl("classify", cnn, folder / "hum", "-o", named, "--page", tmp_path / "named.html")
    assert code == 0, err
    table = read_clip_table(named)
    assert len(table) == 12
    assert (table["predicted"] == "hum").mean() > 0.6
    assert ((table["predicted"] == "(none)") == table["reason"].str.contains("no label is heard")).all()
    assert (table["label"] == "").all()
    code, out, _ = owl("classify", cnn, folder / "hum", "-o", "-", "--min-score", "1")
    assert set(read_clip_table(io.StringIO(out))["predicted"]) <= {"(undecided)", "(none)"}


@pytest.mark.parametrize(
    ("arguments", "message"),
    [
        (["evaluate", "{run}", "--by", "recorder"], "--by recorder: there are"),
        (["evaluate", "{run}", "--target", "precision=2"], "value must be at most 1 for precision"),
        (["evaluate", "{run}", "--target", "precision=high"], "'high' is not a number"),
        (["evaluate", "{run}", "--target", "luck"], "target"),
        (["evaluate", "{run}", "{run}"], "named twice"),
        (["classify", "{run}", "{empty}", "-o", "out.csv"], "holds no sound files"),
        (["gather", "{folder}", "--corrections", "{empty}/none.csv", "-o", "out.csv"], "none.csv"),
    ],
)
def test_what_judging_cannot_do_is_told(owl, runs, folder, tmp_path, arguments, message):
    empty = tmp_path / "empty"
    empty.mkdir()
    filled = [text.format(run=runs["cnn"].folder, empty=empty, folder=folder) for text in arguments]
    code, _, err = owl(*filled)
    assert code == 2
    assert message in err
    assert "Traceback" not in err


@pytest.mark.parametrize(
    "missing", ["scores.json", "provenance.json", "predictions.csv", "plan.toml", "model.safetensors"]
)
def test_a_run_with_missing_parts_is_told(owl, runs, tmp_path, missing):
    folder = shutil.copytree(runs["cnn"].folder, tmp_path / "run")
    (folder / missing).unlink()
    code, _, err = owl("evaluate", folder)
    assert code == 2
    assert missing in err
    assert "Traceback" not in err


def test_a_damaged_similarity_costs_no_report_and_one_label_can_be_judged(owl, runs, clips, tmp_path):
    folder = shutil.copytree(runs["cnn"].folder, tmp_path / "run")
    (folder / "embeddings.npy").write_bytes(b"no")
    assert owl("evaluate", folder)[0] == 0
    write_clip_table(clips[clips["label"] == "hum"], tmp_path / "hums.csv")
    code, out, err = owl("evaluate", folder, tmp_path / "hums.csv")
    assert code == 0
    assert "hums: 12 clips" in out
    assert "No test clip of 'hiss', 'still', 'tick'" in err
    predictions = read_clip_table(folder / "predictions.csv").replace({"split": {"test": "train"}})
    write_clip_table(predictions, folder / "predictions.csv", force=True)
    code, _, err = owl("evaluate", folder)
    assert code == 2
    assert "has no clips in the test split" in err
    write_clip_table(predictions.drop(columns="split"), folder / "predictions.csv", force=True)
    code, _, err = owl("evaluate", folder)
    assert code == 2
    assert "has no column 'split'" in err
