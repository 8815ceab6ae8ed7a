"""Weakly labeled recordings, similarity search, and proposals of clips to label; in the folder of the demo."""

import numpy as np
import pandas as pd

import barn_owl


def main() -> None:
    clips = barn_owl.gather_folder("clips", names="{group}_{take}").clips
    rng, rows = np.random.default_rng(0), []
    for label in ("foghorn", "winch", "hull-knock"):
        own = list(clips.loc[clips["label"] == label, "file"])
        for number in range(4):  # recordings with the label somewhere
            parts = [barn_owl.read_audio(file, rate_hz=16_000)[0] for file in own[3 * number : 3 * number + 3]]
            samples = 0.001 * rng.standard_normal(16_000 * 20).astype(np.float32)
            for at, part in zip((2, 9, 15), parts, strict=True):
                samples[16_000 * at :][: len(part)] += part[: len(samples) - 16_000 * at]
            path = f"weak-{label}-{number}.wav"
            barn_owl.write_audio(path, samples, 16_000, force=True)
            rows.append({"file": path, "label": label})
    harvest = barn_owl.harvest(pd.DataFrame(rows), least=0.3)
    print(harvest.rounds)
    print(harvest.clips.groupby("label")["score"].agg(["size", "mean"]))

    example = clips[clips["label"] == "foghorn"].head(1)
    print(barn_owl.annotation.find_similar(example, ["night.flac"], most=5, least=0.0)[["start_s", "end_s", "score"]])
    print(barn_owl.annotation.propose(clips, count=5)[["rank", "file", "why"]])


if __name__ == "__main__":
    main()
