"""Judge a run and adjust its decoding on a night; run it in a folder that ``barn-owl demo`` has written."""

import barn_owl


def main() -> None:
    run = barn_owl.open_run("run")
    judged = run.evaluate()
    print(judged.summary)
    print("\n".join(judged.caveats))
    print(judged.baselines.round(2))
    print(judged.mistakes[["file", "label", "predicted", "score"]].head())

    truth = barn_owl.read_clip_table("truth.csv")
    found = barn_owl.adjust(run.model, truth)
    print(found.cross_validated.round(2))
    events = barn_owl.tag_recording(run.model, "night.flac", decoding=found.decoding)
    print(barn_owl.score_events(events, truth).by_label.round(2))
    barn_owl.write_events(events, "adjusted.vtt", force=True)


if __name__ == "__main__":
    main()
