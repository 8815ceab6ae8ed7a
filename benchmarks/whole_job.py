"""The demo as a whole: time, scores, speed of tagging, memory that does not grow with the recording."""

import json
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from timing import tell

TAG = """
import resource, sys, time, barn_owl
model = barn_owl.load_model(sys.argv[1])
begin = time.perf_counter()
barn_owl.tag_recording(model, sys.argv[2])
print(time.perf_counter() - begin, resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024)
"""


def run(*arguments: str) -> str:
    return subprocess.run([sys.executable, *arguments], capture_output=True, text=True, check=True).stdout


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        quay = Path(folder) / "quay"
        begin = time.perf_counter()
        print(run("-c", "from barn_owl.cli.main import main; main()", "demo", str(quay)))
        tell("demo: seconds after installation", time.perf_counter() - begin, "< 90")
        provenance = json.loads((quay / "run" / "provenance.json").read_text())
        tell("training on about 400 clips: seconds, reading included", provenance["seconds"], "< 45")
        scores = json.loads((quay / "run" / "scores.json").read_text())["test"]
        tell("balanced accuracy, held-out recorders", scores["balanced_accuracy"], "0.80 to 0.98")

        script = (
            "import sys; from barn_owl.demo import write_harbor; "
            "write_harbor(sys.argv[1], clips_per_label=1, minutes=60)"
        )
        run("-c", script, str(Path(folder) / "hour"))
        short, long = (
            [float(word) for word in run("-c", TAG, str(quay / "run"), str(path)).split()]
            for path in (quay / "night.flac", Path(folder) / "hour" / "night.flac")
        )
        tell("tagging 10 minutes: times faster than real time", 600 / short[0], ">= 300")
        tell("tagging 60 minutes: times faster than real time", 3600 / long[0], ">= 300")
        tell("tagging 10 minutes: peak memory in MB", short[1], "(for information)")
        tell("tagging: peak memory of 60 minutes over that of 10", long[1] / short[1], "<= 1.2")


if __name__ == "__main__":
    main()
