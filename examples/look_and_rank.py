"""Facts, features and their ranking; run it in a folder that ``barn-owl demo`` has written."""

import numpy as np

import barn_owl


def main() -> None:
    facts = barn_owl.audio.file_facts("night.flac")
    print(f"{facts.duration_s:.0f} s, {facts.loudness_lufs:.1f} LUFS, up to {facts.bandwidth_hz:.0f} Hz")

    front_end = barn_owl.FrontEnd(features=["mfcc", "shape"])
    clips = barn_owl.gather_folder("clips", names="{group}_{take}").clips
    frames, clips, skipped = barn_owl.load_frames(clips, front_end, cache="example-cache")
    pooled = np.stack([barn_owl.features.pool(frames[clip]) for clip in range(len(frames))])
    columns = barn_owl.features.pooled_names(front_end.columns)
    print(barn_owl.features.rank_features(pooled, columns, clips["label"], clips["group"]).head())
    print(f"{len(skipped)} clips skipped")

    barn_owl.save_figure(barn_owl.show.map_figure(pooled, clips["label"].tolist()), "example-map.png", force=True)


if __name__ == "__main__":
    main()
