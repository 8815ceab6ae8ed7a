"""Review the events of a night, here by its truth, and estimate how good all are; in the folder of the demo."""

import barn_owl
from barn_owl.annotation import item_key


def main() -> None:
    truth = barn_owl.read_clip_table("truth.csv")
    events = truth[truth["label"] != ""].assign(score=0.9)  # in practice, the events of tag
    items = barn_owl.annotation.review_items(events, ["night.flac"], stretches=10)
    barn_owl.show.write_review_page(barn_owl.show.Review(items), "review.html", force=True)
    # A person would answer in the page; here every event is right, and nothing begins in the stretches.
    for item in items.to_dict("records"):
        sounds = [(item["label"], item["start_s"], item["end_s"])] if item["label"] else []
        answer = barn_owl.annotation.ReviewAnswer(
            item=item_key(item), verdict="right" if sounds else "wrong", sounds=sounds
        )
        barn_owl.annotation.add_answer("answers.jsonl", answer)
    answers = barn_owl.annotation.read_reviews("answers.jsonl")
    print(barn_owl.annotation.estimate_quality(items, answers).table.round(2))
    barn_owl.write_clip_table(barn_owl.annotation.reviewed_clips(items, answers), "reviewed.csv", force=True)


if __name__ == "__main__":
    main()
