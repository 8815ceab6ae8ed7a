"""``barn-owl augment``."""

from collections.abc import Callable, Hashable, Mapping
from pathlib import Path
from typing import Any

import click
import numpy as np
import pandas as pd

from barn_owl.audio import audio_info, read_audio, write_audio
from barn_owl.classify import Plan, read_plan
from barn_owl.cli.common import (
    Voice,
    force_option,
    json_option,
    plan_option,
    quiet_option,
    read_clips,
    seed_option,
)
from barn_owl.clips import SoundSettings, change_sound, write_clip_table
from barn_owl.errors import AudioError, OutputError
from barn_owl.files import claim_folder
from barn_owl.show import save_figure, variants_figure

BYTES_A_SAMPLE = 2


@click.command("augment", short_help="Hear, or write, changed clips.")
@click.argument("what")
@click.option("-o", "--out", type=click.Path(path_type=Path), required=True, help="Folder for the sound files.")
@click.option("--variants", type=click.IntRange(1, 1000), default=8, show_default=True, help="Variants of each clip.")
@click.option("--background", multiple=True, metavar="LABEL", help="Clips of a table that are mixed into the others.")
@click.option("--often", type=click.FloatRange(0, 1), default=0.3, show_default=True,
              help="How often each change is made, if the plan asks for none.")  # fmt: skip
@click.option("--yes", is_flag=True, help="Write without asking.")
@plan_option
@seed_option
@force_option
@json_option
@quiet_option
def command(
    what: str,
    out: Path,
    variants: int,
    background: tuple[str, ...],
    often: float,
    yes: bool,
    plan_path: Path | None,
    seed: int | None,
    force: bool,
    as_json: bool,
    quiet: bool,
) -> None:
    """Change the sound of WHAT at random, as the plan's section sound says, and write what comes out.

    Of a sound file come variants to listen to and a figure: does the label still hold? Of a clip table come
    sound files and their table; you are told how large it will be, and asked. Training needs none of this:
    with changes in its plan it makes them as it goes, and nothing is written.

    \b
    barn-owl augment knock.wav -o variants
    barn-owl augment clips.csv -o larger --variants 3 --background water --yes
    """
    voice = Voice(quiet=quiet, as_json=as_json)
    plan = read_plan(plan_path) if plan_path else Plan()
    settings = plan.sound if plan.sound.any else SoundSettings.everything(often)
    path, seed = Path(what), plan.seed if seed is None else seed
    if path.is_file() and path.suffix.lower() not in (".csv", ".tsv", ".parquet"):
        claim_folder(out, force=force)
        _of_file(voice, path, out, settings, variants, seed)
        return
    clips = read_clips(what)
    if "split" in clips and (clips["split"] == "train").any():
        clips = clips[clips["split"] == "train"].reset_index(drop=True)
        voice.say(f"Only the {len(clips)} clips for training are changed.")
    size = sum(_bytes(row.file, row.start_s, row.end_s) for row in clips.itertuples()) * variants
    voice.say(f"{len(clips) * variants} files, about {size / 1e6:.0f} MB.")
    if not yes and not click.confirm(f"Write them to {out}?", err=True):
        raise click.Abort
    claim_folder(out, force=force)
    _of_table(voice, clips, out, settings, variants, seed, background)


def _of_file(voice: Voice, path: Path, out: Path, settings: SoundSettings, variants: int, seed: int) -> None:
    samples, rate_hz = read_audio(path)
    made = [(samples, "original")]
    for number in range(1, variants + 1):
        changed, done = change_sound(samples, rate_hz, settings, np.random.default_rng([seed, number]))
        words = ", ".join(done) or "unchanged"
        name = out / f"{path.stem}_{number:02d}.wav"
        write_audio(name, changed, rate_hz)
        voice.say(f"{name}: {words}")
        made.append((changed, words))
    save_figure(variants_figure(made, rate_hz, title=f"{path.name} and its variants"), out / "variants.png")
    voice.say(f"Wrote {out / 'variants.png'}.")
    voice.say("Next: listen to them; then barn-owl train CLIPS --plan PLAN with these changes in its section sound")
    voice.result({"variants": [words for _, words in made[1:]], "out": str(out)})


def _bytes(file: str, start_s: float, end_s: float) -> float:
    try:
        info = audio_info(file)
    except AudioError:
        return 0.0  # told when its turn comes
    begin, end = np.nan_to_num(start_s), info.duration_s if np.isnan(end_s) else end_s
    return float((end - begin) * info.rate_hz * BYTES_A_SAMPLE)


def _of_table(
    voice: Voice,
    clips: pd.DataFrame,
    out: Path,
    settings: SoundSettings,
    variants: int,
    seed: int,
    background: tuple[str, ...],
) -> None:
    noises = clips.index[clips["label"].isin(background)].tolist()
    if background and not noises:
        raise OutputError(f"no clip is labelled {' or '.join(background)}")
    rows: list[dict[str, object]] = []
    refused = 0
    with voice.progress("writing variants") as progress:
        for number, row in enumerate(clips.to_dict(orient="records")):
            rng = np.random.default_rng([seed, number])
            try:
                samples, rate_hz = _read(row)
                other = _other(clips, noises, rate_hz, rng) if noises else None
                for variant in range(1, variants + 1):
                    changed, done = change_sound(samples, rate_hz, settings, rng, background=other)
                    name = (
                        out / (row["label"] or "unlabelled") / f"{Path(row['file']).stem}_{number}_{variant:02d}.wav"
                    )
                    name.parent.mkdir(parents=True, exist_ok=True)
                    write_audio(name, changed, rate_hz)
                    made = {"file": str(name), "start_s": np.nan, "end_s": np.nan, "changes": ", ".join(done)}
                    rows.append({**row, **made})
            except AudioError as error:
                refused += 1
                voice.warn(f"left out: {error}")
            progress(number + 1, len(clips))
    write_clip_table(pd.DataFrame(rows), out / "clips.csv")
    voice.say(f"Wrote {len(rows)} sound files and {out / 'clips.csv'}; {refused} clips left out.")
    voice.result({"files": len(rows), "refused": refused, "table": str(out / "clips.csv")})


def _read(row: Mapping[Hashable, Any], rate_hz: int | None = None) -> tuple[np.ndarray, int]:
    start, end = (None if np.isnan(time) else time for time in (row["start_s"], row["end_s"]))
    return read_audio(row["file"], start_s=start, end_s=end, rate_hz=rate_hz)


def _other(
    clips: pd.DataFrame, noises: list[int], rate_hz: int, rng: np.random.Generator
) -> Callable[[], np.ndarray]:
    """Gives the samples of a clip of the background at a rate."""

    def read() -> np.ndarray:
        row = clips.loc[noises[int(rng.integers(len(noises)))]].to_dict()
        return _read(row, rate_hz)[0]

    return read
