"""Small devices: estimated and measured cost, and C compared with NumPy.

python benchmarks/compact.py

Needs a C compiler for the second half.
"""

import shutil
import subprocess
import tempfile
import time
from pathlib import Path

import numpy as np
from threadpoolctl import threadpool_limits

from barn_owl import FrontEnd, Plan, write_c
from barn_owl.clips import ClipFrames
from barn_owl.device import footprint, plain_model, quantize, read_device

MAIN = """
#include "NAME.h"
#include <stdio.h>
#include <time.h>
static double now(void) { struct timespec t; timespec_get(&t, TIME_UTC); return t.tv_sec + 1e-9 * t.tv_nsec; }
int main(void) {
    static owl o;
    static float samples[OWL_RATE_HZ * 2];
    double window = 1e9, step = 1e9;
    int i, run;
    for (i = 0; i < OWL_RATE_HZ * 2; i++) samples[i] = 0.3f * (float)((i * 7919 % 2000) - 1000) / 1000;
    for (run = 0; run < 200; run++) {
        int is_step = 0, at = 0;
        double begin = now();
        owl_start(&o);
        while (!is_step) at += owl_push(&o, samples + at, OWL_RATE_HZ * 2 - at, &is_step);
        window = now() - begin < window ? now() - begin : window;
        begin = now();
        at += owl_push(&o, samples + at, OWL_RATE_HZ * 2 - at, &is_step);
        step = now() - begin < step ? now() - begin : step;
    }
    printf("%g %g %g\\n", window, step, (double)o.activity[0]);
    return 0;
}
"""


def best(work, seconds: float = 0.5) -> float:
    """Least time of a call."""
    least, end = np.inf, time.perf_counter() + seconds
    while time.perf_counter() < end:
        begin = time.perf_counter()
        work()
        least = min(least, time.perf_counter() - begin)
    return least


def estimates() -> None:
    """Estimated and measured time of this machine."""
    device, front_end = read_device("this-machine"), FrontEnd()
    samples = np.random.default_rng(0).standard_normal(60 * front_end.rate_hz).astype(np.float32) * 0.1
    frames = front_end.frames(samples)
    print("a minute, seconds:            estimated  measured  ratio")
    for size, kinds in (("tiny", ["2d"]), ("small", ["2d"]), ("small", ["2d", "1d"]), ("medium", ["2d", "1d"])):
        model = plain_model(Plan(cnn={"size": size, "kinds": kinds}), labels=8)
        took = footprint(model, device)
        classifier, at_once = model.classifier, 256 * model.classifier.step

        def score(classifier=classifier, at_once=at_once) -> None:
            for first in range(0, len(frames) - classifier.window, at_once):
                classifier.frame_scores(frames[first : first + at_once + classifier.window - classifier.step])

        with threadpool_limits(limits=1, user_api="blas"):
            measured = best(lambda: front_end.frames(samples, workers=1)) + best(score)
        estimated = took.seconds_float / took.step_s * 60
        name = f"{size} {'+'.join(kinds)}"
        print(f"{name:>16}              {estimated:9.4f} {measured:9.4f} {estimated / measured:6.2f}")


def in_c(model, folder: Path, name: str) -> tuple[float, float, int]:
    """Seconds for the first window, for a further step, and bytes of memory."""
    write_c(model, folder / f"{name}.c")
    (folder / f"{name}_time.c").write_text(MAIN.replace("NAME", name))
    for program in ("time", "main"):
        command = (
            f"cc -O3 -march=native -ffp-contract=fast -std=c11 {name}.c {name}_{program}.c -lm -o {name}_{program}"
        )
        subprocess.run(command.split(), cwd=folder, check=True)
    window, step, _ = map(
        float, subprocess.run([folder / f"{name}_time"], capture_output=True, text=True).stdout.split()
    )
    sizes = subprocess.run([folder / f"{name}_main", "--sizes"], capture_output=True, text=True).stdout
    return window, step, int(sizes.split()[1])


def against_c() -> None:
    """The default model in C, in float32 and int8, compared with the same window in NumPy."""
    model = plain_model(Plan(), labels=8)
    rng = np.random.default_rng(0)
    for network in model.classifier.networks:
        network.vector[:] = rng.normal(0, 0.1, len(network.vector))
    model.classifier.load_state(model.classifier.state())
    front_end = model.front_end
    samples = rng.standard_normal(front_end.samples_for(model.classifier.window)).astype(np.float32) * 0.1
    with threadpool_limits(limits=1, user_api="blas"):
        ours = best(lambda: model.classifier.frame_scores(front_end.frames(samples, workers=1)))
    rounded = quantize(model, ClipFrames([front_end.frames(rng.standard_normal(32_000).astype(np.float32))]))
    size = footprint(model, read_device("core-256k"))
    with tempfile.TemporaryDirectory() as folder:
        floats, whole = in_c(model, Path(folder), "floats"), in_c(rounded, Path(folder), "whole")
    print(f"one window: NumPy {1000 * ours:.2f} ms, C {1000 * floats[0]:.2f} ms, int8 {1000 * whole[0]:.2f} ms")
    print(f"one more step of a stream: C {1e6 * floats[1]:.0f} us, int8 {1e6 * whole[1]:.0f} us")
    print(f"memory: {floats[2]} bytes ({size.ram_float} estimated), int8 {whole[2]} ({size.ram_int8} estimated)")


if __name__ == "__main__":
    estimates()
    if shutil.which("cc"):
        against_c()
    else:
        print("there is no C compiler, so C is not measured")
