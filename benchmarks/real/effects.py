"""Build the problem of game sounds: seven kinds of short sounds by many makers, with few clips each.

The packages are fetched from the Debian archive and unpacked one after another; labels are found in the names of the
files. A maker is in one split only, and makers of the test are heard nowhere else.

usage: effects.py [--fetch]
"""

import argparse
import hashlib
import re
import shutil
import subprocess
import tempfile
from collections import Counter, defaultdict
from pathlib import Path

import numpy as np
import soundfile as sf
from recorded import DATA, fresh, write_csv

PACKAGE_NAMES = """
a7xpg-data abe-data adonthell-data ardentryst barrage bugsquish burgerspace caveexpress-data ceferino-data
chromium-bsu-data circuslinux-data cuyo-data endless-sky-data extremetuxracer-data fillets-ng-data
foobillardplus-data frozen-bubble-data geki2 granatier gunroar-data heroes-sound-effects kapman kolf
lbreakout2-data lbreakouthd-data lincity-ng-data madbomber-data marsshooter-data meritous-data
mirrormagic-data monsterz-data mu-cade-data njam-data noiz2sa-data open-invaders-data overgod-data
parsec47-data pathological pinball-data plee-the-bear-data powermanga-data ri-li-data rrootage-data
spacearyarya tecnoballz-data titanion-data torus-trooper-data trackballs-data trophy-data tumiki-fighters-data
tuxmath-data vectoroids wing-data zaz-data
"""
LABELS = {
    "explosion": r"expl|boom|bomb|blast|detonat|splode",
    "shot": r"shot|shoot|laser|gun|blaster|cannon|missile|zap",
    "hit": r"hit|hurt|impact|punch|crash|bang|smash|thud|clang|collision|bump|bounce|ricoch",
    "pickup": r"coin|pick|gem|bonus|collect|gold|treasure|power_?up|extra",
    "click": r"click|button|menu|select|tick|cursor|toggle|switch",
    "voice": r"ouch|scream|yell|laugh|cry|ugh|grunt|hello|voice|\bsay|pain",
    "bell": r"bell|chime|ding|ring|gong|alarm|siren|beep|alert",
}
"""What the name of a file must match; a file that matches several has no label."""
LONGEST_S, SHORTEST_S = 4.0, 0.04
CLIPS_PER_MAKER = 12
"""Largest number of clips of a label by one maker."""
TEST_SHARE, VALIDATION_SHARE = 0.35, 0.15
"""Share of the clips in each split; a maker is in one of them."""


def fetch(raw: Path) -> None:
    """Unpack the sounds of each package into a folder of its name."""
    raw.mkdir(parents=True, exist_ok=True)
    for package in PACKAGE_NAMES.split():
        if (raw / package).is_dir():
            continue
        with tempfile.TemporaryDirectory() as folder:
            if subprocess.run(["apt-get", "download", "-q", package], cwd=folder, check=False).returncode:
                print(f"{package} is not to be had; leaving it out")
                continue
            subprocess.run(["dpkg", "-x", next(Path(folder).glob("*.deb")), f"{folder}/all"], check=True)
            for path in Path(folder, "all").rglob("*"):
                if path.is_file() and path.suffix.lower() not in (".wav", ".ogg", ".flac", ".mp3", ".au"):
                    path.unlink()
            shutil.move(f"{folder}/all", raw / package)


def label_of(path: Path) -> str:
    """Return the label in the name of a file, or a blank."""
    found = [label for label, pattern in LABELS.items() if re.search(pattern, path.stem.lower())]
    return found[0] if len(found) == 1 else ""


def splits(clips: Counter[str]) -> dict[str, str]:
    """Return the split of each maker, from the number of its clips: in an order by a hash of the names."""
    found, behind = {}, 0
    for maker in sorted(clips, key=lambda name: hashlib.sha256(name.encode()).hexdigest()):
        share = behind / clips.total()
        found[maker] = (
            "test" if share < TEST_SHARE else "validation" if share < TEST_SHARE + VALIDATION_SHARE else "train"
        )
        behind += clips[maker]
    return found


def build(raw: Path) -> None:
    """Write the clips, their table and their split."""
    folder, rows, seen = fresh("effects"), [], set()
    taken: dict[tuple[str, str], int] = defaultdict(int)
    for maker in sorted(name for name in PACKAGE_NAMES.split() if (raw / name).is_dir()):
        for path in sorted((raw / maker).rglob("*")):
            if not path.is_file() or not (label := label_of(path)):
                continue
            try:
                samples, rate_hz = sf.read(path, dtype="float32", always_2d=True)
            except sf.LibsndfileError:
                continue
            content = hashlib.sha256(samples.tobytes()).hexdigest()
            length_s = len(samples) / rate_hz
            if content in seen or not SHORTEST_S <= length_s <= LONGEST_S or np.abs(samples).max() < 1e-3:
                continue
            if taken[maker, label] >= CLIPS_PER_MAKER:
                continue
            seen.add(content)
            taken[maker, label] += 1
            name = f"{label}/{maker}_{taken[maker, label]:02d}.wav"
            (folder / label).mkdir(exist_ok=True)
            sf.write(folder / name, samples, rate_hz, subtype="PCM_16")
            rows.append((name, label, maker))
    write_csv(folder / "clips.csv", ["file", "label", "group"], rows)
    split = splits(Counter(maker for _, _, maker in rows))
    write_csv(folder / "split.csv", ["file", "split"], [(name, split[maker]) for name, _, maker in rows])
    print(len(rows), "clips by", len(split), "makers")
    print(Counter((label, split[maker]) for _, label, maker in rows))


if __name__ == "__main__":
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--fetch", action="store_true", help="unpack the packages first")
    if parser.parse_args().fetch:
        fetch(DATA / "raw3")
    build(DATA / "raw3")
