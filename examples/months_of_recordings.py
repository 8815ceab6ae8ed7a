"""Tag an archive into a store, as if it were months, and ask it with other programs; in the folder of the demo."""

import duckdb
import polars as pl

import barn_owl


def main() -> None:
    model = barn_owl.load_model("run")
    samples, rate_hz = barn_owl.read_audio("night.flac")
    third = len(samples) // 3
    for number in range(3):  # three nights of one recorder
        part = samples[number * third : (number + 1) * third]
        barn_owl.write_audio(f"archive/quay-1_2026050{number + 1}_220000.wav", part, rate_hz)
    with barn_owl.engine("local"):  # or the address of a dask scheduler
        archive = barn_owl.tag_archive(model, barn_owl.find_recordings(["archive"]), keep="months")
    print(archive.counts().round(2))
    print(barn_owl.archive.store_hours("months").loc[[21, 22, 23]])
    print(barn_owl.archive.read_store("months", day="2026-05-02").head(3))
    files = "months/model=*/*/*/*.parquet"
    print(duckdb.sql(f"SELECT day, label, count(*) AS events FROM '{files}' GROUP BY ALL ORDER BY ALL LIMIT 5"))  # noqa: S608
    print(pl.scan_parquet(files).filter(pl.col("score") > 0.9).select("label", "clock").head(3).collect())


if __name__ == "__main__":
    main()
