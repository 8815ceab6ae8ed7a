"""Augmented variants of clips, a part of ``barn-owl look``."""

from __future__ import annotations

from pathlib import Path

import click
import numpy as np

import barn_owl as owl
from barn_owl.cli import common
from barn_owl.files import claim_folder


def write_variants_aloud(
    voice: common.Terminal,
    what: str,
    out: Path,
    plan: owl.Plan,
    *,
    variants: int,
    background: tuple[str, ...],
    often: float,
    yes: bool,
    seed: int | None,
    force: bool,
) -> None:
    """Write augmented variants of a sound file, with a figure, or of the clips of a table."""

    from barn_owl.clips import write_variants
    from barn_owl.clips.writing import bytes_of

    settings = plan.sound if plan.sound.any else owl.sound.SoundSettings.everything(often)
    path, seed = Path(what), plan.seed if seed is None else seed
    if common.is_sound_file(what):
        samples, rate_hz = owl.read_audio(path)
        _of_file(voice, path, samples, rate_hz, claim_folder(out, force=force), settings, variants, seed)
        return
    clips = common.read_clips(what)
    if "split" in clips and (clips["split"] == "train").any():
        clips = clips[clips["split"] == "train"].reset_index(drop=True)
        voice.say(f"Augmenting only the {len(clips)} training clips.")
    voice.say(f"{len(clips) * variants} files, about {bytes_of(clips) * variants / 1e6:.0f} MB.")
    if not yes and not click.confirm(f"Write them to {out}?", err=True):
        raise click.Abort
    claim_folder(out, force=force)
    with voice.progress("writing variants") as progress:
        made, skipped = write_variants(
            clips, out, settings, variants=variants, background=background, seed=seed, progress=progress
        )
    voice.skipped(skipped.values())
    owl.write_clip_table(made, out / "clips.csv", force=True)
    voice.say(f"Wrote {len(made)} sound files and {out / 'clips.csv'}; {len(skipped)} clips skipped.")
    voice.result(files=len(made), skipped=skipped, table=out / "clips.csv", force=True)


def _of_file(
    voice: common.Terminal,
    path: Path,
    samples: np.ndarray,
    rate_hz: int,
    out: Path,
    settings: owl.sound.SoundSettings,
    variants: int,
    seed: int,
) -> None:
    made = [(samples, "original")]
    for number in range(1, variants + 1):
        changed, done = owl.sound.change_sound(samples, rate_hz, settings, np.random.default_rng([seed, number]))
        words = ", ".join(done) or "unchanged"
        name = out / f"{path.stem}_{number:02d}.wav"
        owl.write_audio(name, changed, rate_hz, force=True)
        voice.say(f"{name}: {words}")
        made.append((changed, words))
    owl.save_figure(
        owl.show.variants_figure(made, rate_hz, title=f"{path.name} and its variants"),
        out / "variants.png",
        force=True,
    )
    voice.say(f"Wrote {out / 'variants.png'}.")
    voice.say("Next: listen to them, then set the section [sound] of a plan: barn-owl train CLIPS --plan PLAN")
    voice.result(variants=[words for _, words in made[1:]], out=out)
