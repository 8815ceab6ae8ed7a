"""A year of twenty recorders on many workers: a simulation with measured times, failures and transfers.

    python benchmarks/scale.py [--workers 200] [--hours 175000]

Durations are drawn from measurements on real processes (`cluster.py`, or a user's run with --seconds); workers die at
random and return; an interrupted piece is repeated.
"""

import argparse
import heapq
import json

import numpy as np

HOUR_S, SPREAD = 8.5, 0.08
"""Seconds that a core treats as an hour of sound (16 kHz FLAC, the demo's model), and their deviation as a share."""
SCHEDULE_S = 0.007
"""Time of the client per piece: submit, fetch, write its line and its file."""
MEGABYTES = 42.0
"""An hour of 16 kHz FLAC."""
BACK_S = 30.0
"""Until a machine that died is replaced."""


def simulate(hours: int, workers: int, lives_s: float, seed: int, hour_s: float = HOUR_S) -> dict[str, float]:
    """Do `hours` recordings of an hour; workers live for an exponential time of mean `lives_s`."""
    rng = np.random.default_rng(seed)
    takes = hour_s * rng.lognormal(0.0, SPREAD, hours)
    left, done, lost_s, deaths, client_s = hours, 0, 0.0, 0, 0.0
    dies = rng.exponential(lives_s, workers)
    events = [(0.0, worker) for worker in range(workers)]  # when each is free
    heapq.heapify(events)
    again: list[int] = []
    end = 0.0
    while done < hours:
        now, worker = heapq.heappop(events)
        if again:
            number = again.pop()
        elif left:
            left -= 1
            number = left
        else:
            continue
        # The client submits in sequence: it is the shared queue.
        client_s = max(client_s, now) + SCHEDULE_S
        begins, ends = client_s, client_s + takes[number]
        while dies[worker] < begins:
            dies[worker] += rng.exponential(lives_s)
        if dies[worker] < ends:
            lost_s += dies[worker] - begins
            deaths += 1
            again.append(number)
            heapq.heappush(events, (dies[worker] + BACK_S, worker))
            dies[worker] += BACK_S + rng.exponential(lives_s)
        else:
            done += 1
            end = max(end, ends)
            heapq.heappush(events, (ends, worker))
    return {
        "finished_h": end / 3600,
        "deaths": deaths,
        "work_lost_percent": 100 * lost_s / takes.sum(),
        "busy_percent": 100 * (takes.sum() + lost_s) / (workers * end),
        "client_busy_percent": 100 * hours * SCHEDULE_S / end,
        "read_tb": hours * MEGABYTES * (1 + lost_s / takes.sum()) / 1e6,
        "read_gb_a_second": hours * MEGABYTES / end / 1e3,
    }


def main() -> None:
    """Print the results of the simulation, for more and more workers."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--hours", type=int, default=175_000)
    parser.add_argument("--workers", type=int, nargs="+", default=[1, 20, 200, 2000])
    parser.add_argument("--lives-h", type=float, default=2.0, help="mean life of a worker")
    parser.add_argument("--seconds", type=float, default=HOUR_S, help="what a core treats as an hour of sound")
    arguments = parser.parse_args()
    for workers in arguments.workers:
        found = [
            simulate(arguments.hours, workers, 3600 * arguments.lives_h, seed, arguments.seconds) for seed in range(3)
        ]
        mean = {name: round(float(np.mean([one[name] for one in found])), 2) for name in found[0]}
        print(json.dumps({"workers": workers, **mean}))


if __name__ == "__main__":
    main()
