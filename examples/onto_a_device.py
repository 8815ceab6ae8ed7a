"""Hand a model over as C and compile it; needs a C compiler and the run of ``from_clips_to_events``."""

import shutil
import subprocess
from pathlib import Path

import barn_owl


def main() -> None:
    model = barn_owl.load_model("example-run")
    size = barn_owl.footprint(model, barn_owl.read_device("core-256k"))
    print(size.table().round(2))
    source, header, program = barn_owl.write_c(model, "owl.c", force=True)
    samples, rate_hz = barn_owl.read_audio("night.flac", rate_hz=model.front_end.rate_hz, end_s=20)
    barn_owl.write_audio("night-part.wav", samples, rate_hz)
    if shutil.which("cc") is None:
        print(f"there is no C compiler here to try {source}, {header} and {program} with")
        return
    subprocess.run(["cc", "-O3", "-std=c99", source, program, "-lm", "-o", "tag-wav"], check=True)  # noqa: S603, S607
    with Path("night-part.wav").open("rb") as file:
        print(subprocess.run(["./tag-wav"], stdin=file, capture_output=True, text=True, check=True).stdout)


if __name__ == "__main__":
    main()
