"""Use a trained model on samples in memory; run it in a folder that ``barn-owl demo`` has written."""

import barn_owl


def main() -> None:
    model = barn_owl.load_model("run")
    samples, rate_hz = barn_owl.read_audio("night.flac", start_s=0, end_s=20)
    print(model.score(samples[: 2 * rate_hz], rate_hz))
    print(barn_owl.tag_samples(model, samples, rate_hz))


if __name__ == "__main__":
    main()
