"""Add a label to a model months later, from its file alone; in a folder that ``barn-owl demo`` has written."""

import shutil

import barn_owl


def main() -> None:
    for folder in ("example-before", "example-after"):
        shutil.rmtree(folder, ignore_errors=True)
    clips = barn_owl.gather_folder("clips", names="{group}_{take}").clips
    plan = barn_owl.Plan(
        background=["water"],
        cnn={"size": "tiny", "kinds": ["2d"]},
        training={"epochs": 3, "refit": 2},  # far too few, for the sake of the example
        mixtures={"count": 32},
        rehearsal={"minutes": 0},
    )
    barn_owl.train(clips[clips["label"] != "winch"], "example-before", plan)

    model = barn_owl.load_model("example-before")  # or third-party model file
    further = barn_owl.runs.plan_from_model(plan, model, "example-before")
    run = barn_owl.train(clips[clips["label"] == "winch"], "example-after", further)
    print(barn_owl.runs.exemplar_table(model, run.model, run.predictions).round(2))


if __name__ == "__main__":
    main()
