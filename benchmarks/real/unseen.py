"""Recordings of validation clips over background that training has not heard, to choose defaults on.

usage: unseen.py; recorded.py and rendered.py come first. Writes four recordings of 20 min to unseen/.

The recordings to adjust on (tune/) are over sources of the training: defaults look better there than on recordings of
unseen places. choose.py leaves their sources out of training.
"""

from recorded import DATA, fresh, make_recording, pool
from rendered import long_instruments, talk

SOURCES = ["loop_3d_printer", "ambi_swoosh", "ambi_soft_buzz"]
KEPT_OUT = [*SOURCES, "mixed"]
"""Groups of background clips with these sources."""
SECONDS, PINK = 1200, [1]


def main() -> None:
    folder = fresh("unseen")
    hits, says = pool("drums", "validation"), pool("voices", "validation")
    make_recording(folder / "drums_unseen.wav", SECONDS, hits, says, 240, 0.1, SOURCES, PINK, 125)
    make_recording(folder / "voices_unseen.wav", SECONDS, says, hits, 180, 0.0, SOURCES, PINK, 126, min_gap=0.6)
    fonts = "timgm6mb", "gmbank"
    long_instruments([(fonts, 133, "instruments_unseen.flac", folder, SECONDS, 220, 15, 0.1, SOURCES, PINK)])
    talk(folder / "commands_unseen.wav", SECONDS, "validation", 145, SOURCES, PINK)
    print(*sorted(path.name for path in DATA.glob("unseen/*_unseen.csv")), sep="\n")


if __name__ == "__main__":
    main()
