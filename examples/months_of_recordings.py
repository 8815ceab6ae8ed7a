"""Tag an archive into a store, as if it were months, and query it with any program; in the folder of the demo."""

import pandas as pd

import barn_owl


def main() -> None:
    model = barn_owl.load_model("run")
    samples, rate_hz = barn_owl.read_audio("night.flac")
    third = len(samples) // 3
    for number in range(3):  # three nights of a recorder
        part = samples[number * third : (number + 1) * third]
        barn_owl.write_audio(f"archive/quay-1_2026050{number + 1}_220000.wav", part, rate_hz, force=True)
    with barn_owl.engine("local"):  # or the address of a dask scheduler
        archive = barn_owl.tag_archive(model, barn_owl.find_recordings(["archive"]), store="months")
    print(archive.counts().round(2))
    print(barn_owl.archive.store_hours("months").loc[[21, 22, 23]])
    print(barn_owl.archive.read_store("months", day="2026-05-02").head(3))
    # Any program that reads Parquet can query it: DuckDB, Polars, Spark, and pandas, as here.
    found = pd.read_parquet("months", columns=["day", "label", "score"])
    print(found.groupby(["day", "label"], observed=True).size().head(5))


if __name__ == "__main__":
    main()
