"""From a pile of files to a clean clip table with a split by group; run it in a folder that ``barn-owl demo`` has
written."""

import numpy as np

import barn_owl


def main() -> None:
    gathered = barn_owl.gather_folder("clips", names="{group}_{take}")
    for reason in gathered.skipped.values():
        print("dropped:", reason)
    check = barn_owl.check_clips(gathered.clips)
    print(check.findings.groupby(["severity", "finding"]).size())
    barn_owl.save_figure(barn_owl.show.check_figure(check), "example-check.png", force=True)

    split = barn_owl.split_clips(check.repaired, seed=1)
    print(len(barn_owl.clips.find_leaks(split)), "leaks")
    barn_owl.write_clip_table(split, "example-split.csv", force=True)
    print(split.groupby(["label", "split"]).size().unstack())

    samples, rate_hz = barn_owl.read_audio(split["file"][0])
    changes = barn_owl.sound.SoundSettings(pitch=1.0, room=1.0, noise=0.5)
    changed, done = barn_owl.sound.change_sound(samples, rate_hz, changes, np.random.default_rng(1))
    barn_owl.write_audio("example-variant.wav", changed, rate_hz, force=True)
    print("example-variant.wav:", ", ".join(done))


if __name__ == "__main__":
    main()
