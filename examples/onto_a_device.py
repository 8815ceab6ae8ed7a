"""Train a small network, hand it over as C and compile that; in a folder that ``barn-owl demo`` has written.

Needs a C compiler for the last step.
"""

import shutil
import subprocess
from pathlib import Path

import barn_owl


def main() -> None:
    shutil.rmtree("example-small", ignore_errors=True)
    clips = barn_owl.gather_folder("clips", names="{group}_{take}").clips
    plan = barn_owl.Plan(
        background=["water"],
        cnn={"size": "tiny", "kinds": ["2d"]},
        training={"epochs": 3, "refit": 2},  # far too few, for the sake of the example
        mixtures={"count": 32},
        rehearsal={"minutes": 0},
    )
    model = barn_owl.train(clips, "example-small", plan).model
    print(barn_owl.device.footprint(model, barn_owl.device.read_device("core-256k")).table().round(2))
    source, header, program = barn_owl.write_c(model, "owl.c", force=True)
    samples, rate_hz = barn_owl.read_audio("night.flac", rate_hz=model.front_end.rate_hz, end_s=20)
    barn_owl.write_audio("night-part.wav", samples, rate_hz, force=True)
    if shutil.which("cc") is None:
        print(f"there is no C compiler here to try {source}, {header} and {program} with")
        return
    subprocess.run(["cc", "-O3", "-std=c99", source, program, "-lm", "-o", "tag-wav"], check=True)  # noqa: S603, S607
    with Path("night-part.wav").open("rb") as file:
        print(subprocess.run(["./tag-wav"], stdin=file, capture_output=True, text=True, check=True).stdout)


if __name__ == "__main__":
    main()
