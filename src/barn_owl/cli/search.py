"""Search for a plan within the limits of a device, a part of ``barn-owl shrink``."""

from __future__ import annotations

from pathlib import Path

import barn_owl as owl
from barn_owl.cli import common
from barn_owl.files import MISSING, claim_folder, not_a_file

SHOWN = [
    "candidate", "step", "score", "clips", "event_f1", "f1", "flash_kb", "ram_kb", "latency_ms", "load",
    "multiply_adds",
]  # fmt: skip


def search_aloud(
    voice: common.Terminal,
    clips: str,
    folder: Path,
    *,
    device: str,
    minutes: float,
    floats: bool,
    is_random: bool,
    resume: bool,
    plan_path: Path | None,
    seed: int | None,
    workers: int,
    force: bool,
) -> None:
    """Search for the best plan for clips within the limits of a device."""
    table, target = common.read_clips(clips), owl.device.read_device(device)
    if not_a_file(folder) != MISSING:
        claim_folder(folder, force=force or resume)
    plan = (
        owl.read_plan(plan_path, urls=common.table_urls())
        if plan_path is not None
        else owl.suggest_plan(table, workers=workers).plan
    )
    work = owl.Work(
        workers=workers, force=force, on_start=lambda name, number, _total: voice.say(f"{number}: {name}")
    )
    found = owl.device.search(
        table, folder, target, minutes=minutes, plan=plan.but(seed=seed), int8=not floats, halves=not is_random,
        resume=resume, work=work,
    )  # fmt: skip
    shown = found.table[[name for name in SHOWN if name in found.table]]
    voice.table(shown.head(10), title=f"best of {len(found.table)} candidates that fit {target.name}")
    owl.save_figure(owl.show.search_figure(found), folder / "search.png", force=True)
    owl.show.write_search_page(found, folder / "search.html", force=True)
    best = found.table.iloc[0]
    drawn = ", ".join(f"{key} {best[key]}" for key in found.table if "." in key and best[key] == best[key])
    voice.say(f"Best: candidate {best['candidate']}, {best['classifier']}; {drawn}.")
    voice.say(f"\nWrote {folder / 'search.csv'}, search.html, search.png and plan.toml.")
    voice.say(f"Next: barn-owl train {clips} --plan {folder / 'plan.toml'} --run best")
    furthest = owl.device.front(found.table)["candidate"].tolist() if "flash_kb" in found.table else []
    voice.result(plan=folder / "plan.toml", candidates=found.table, front=furthest)
