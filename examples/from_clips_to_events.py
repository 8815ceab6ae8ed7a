"""From a folder of clips to a table of events; run it in a folder that ``barn-owl demo`` has written."""

import shutil

import barn_owl


def main() -> None:
    shutil.rmtree("example-run", ignore_errors=True)
    clips = barn_owl.gather_folder("clips", names="{group}_{take}").clips
    # Few windows and a quick classifier, for a first look; the default is better and takes a minute.
    plan = barn_owl.Plan(classifier="logistic", background=["water"], seed=1, pooling={"windows": 1000})
    run = barn_owl.train(clips, "example-run", plan)
    print(run.evaluate().scores.by_label[["precision", "recall", "f1", "count"]].round(2))
    events = barn_owl.tag_recording(run.model, "night.flac")
    barn_owl.write_clip_table(events, "example-events.csv", force=True)
    print(events.head())


if __name__ == "__main__":
    main()
