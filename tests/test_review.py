"""Reviewing events: items, answers that are never lost, an unbiased estimate, the page and its server."""

import json
import signal
import subprocess
import sys
import threading
import urllib.error
import urllib.request

import numpy as np
import pandas as pd
import pytest
from hypothesis import given, strategies as st

import barn_owl as owl
from barn_owl.annotation import item_key, recordings_at
from barn_owl.cli.main import run
from barn_owl.errors import OutputError, TableError
from helpers import RATE_HZ, sound
from test_pages import CHROMIUM, EVIL, browser  # noqa: F401 - a fixture

COLUMNS = ["file", "start_s", "end_s", "label", "score"]


@pytest.fixture(scope="module")
def night(tmp_path_factory):
    """A minute of recording with an event every three seconds, and what a model says of it."""
    folder, rng = tmp_path_factory.mktemp("review"), np.random.default_rng(2)
    kinds = ["hum", "tick", "hiss"]
    parts = [part for n in range(20) for part in (sound("still", rng, 2.0), sound(kinds[n % 3], rng, 1.0))]
    owl.write_audio(folder / "night.wav", np.concatenate(parts), RATE_HZ)
    rows = [(str(folder / "night.wav"), 3 * n + 2.0, 3 * n + 3.0, kinds[n % 3], 0.5 + n / 50) for n in range(18)]
    owl.write_clip_table(pd.DataFrame(rows, columns=COLUMNS), folder / "events.csv")
    return folder


@pytest.fixture(scope="module")
def items(night):
    return owl.annotation.review_items(owl.read_events(night / "events.csv"), stretches=5)


def right(item, **more):
    sounds = [(item["label"], item["start_s"], item["end_s"])]
    return owl.annotation.ReviewAnswer(item=item_key(item), verdict="right", sounds=sounds, **more)


def test_items_are_all_events_and_stretches_that_no_event_touches(items, night):
    events = items[items["kind"] == "event"]
    assert len(events) == 18
    assert set(events["stratum"]) == {f"{label} {third}" for label in ("hum", "tick", "hiss") for third in
                                      ("low", "middle", "high")}  # fmt: skip
    for _, own in events.groupby("stratum"):
        assert sorted(own["draw"]) == list(range(1, own["of"].iloc[0] + 1))
    stretches = items[items["kind"] == "stretch"]
    assert len(stretches) == 5
    for stretch in stretches.itertuples():
        assert not ((events["start_s"] < stretch.end_s - 1e-9) & (events["end_s"] > stretch.start_s + 1e-9)).any()
    # Near the threshold is requested first, if nothing else speaks for another.
    assert events.sort_values("informativeness")["score"].iloc[-3:].mean() < events["score"].mean()


def test_what_is_drawn_does_not_depend_on_whether_events_are_listened_to(night):
    events = owl.read_events(night / "events.csv").head(4)
    heard, unheard = (
        owl.annotation.review_items(events, stretches=4, listens=listens, seed=3) for listens in (True, False)
    )
    columns = ["start_s", "end_s", "label", "stratum", "draw"]
    pd.testing.assert_frame_equal(heard[columns], unheard[columns])
    other = owl.annotation.review_items(events, stretches=4, listens=False, seed=4)
    assert not other[columns].equals(unheard[columns])


def test_an_event_that_overlaps_one_of_another_label_is_at_odds_with_it(night):
    rows = [(str(night / "night.wav"), start, start + 1, label, 0.9) for start, label in
            ((1.0, "hum"), (1.5, "tick"), (8.0, "hum"), (8.2, "hum"))]  # fmt: skip
    items = owl.annotation.review_items(pd.DataFrame(rows, columns=COLUMNS), stretches=0, listens=False)
    assert items["why"].str.contains("another label").tolist() == [True, True, False, False]


verdicts = st.lists(st.tuples(st.integers(0, 6), st.sampled_from(["right", "wrong", "unsure", ""])), max_size=30)


@given(said=verdicts, cut=st.integers(0, 60))
def test_the_last_answer_to_a_item_counts_and_a_cut_off_line_spoils_no_other(said, cut, tmp_path_factory):
    path, wanted = tmp_path_factory.mktemp("answers") / "a.jsonl", {}
    for item, verdict in said:
        key, sounds = f"item {item} \u2028 ", [("hum", 0.0, 1.0)] if verdict == "right" else ()
        owl.annotation.add_answer(path, owl.annotation.ReviewAnswer(item=key, verdict=verdict, sounds=sounds))
        wanted = {k: v for k, v in wanted.items() if k != key} | ({key: verdict} if verdict else {})
    with path.open("ab") as file:
        file.write(json.dumps({"item": "x" * 50, "verdict": "wrong"}).encode()[: cut % 50])
    assert {key: answer.verdict for key, answer in owl.annotation.read_reviews(path).items()} == wanted
    owl.annotation.add_answer(path, owl.annotation.ReviewAnswer(item="last", verdict="wrong"))
    assert owl.annotation.read_reviews(path)["last"].verdict == "wrong"
    assert len(owl.annotation.read_reviews(path)) == len(wanted) + 1


@pytest.mark.parametrize(
    "line",
    ["[]", '{"item": 1}', '{"item": "a", "verdict": "maybe"}', '{"item": "a", "verdict": "right"}', "nonsense",
             '{"item": "a", "verdict": "other", "sounds": [["hum", 2, 1]]}',
             '{"item": "a", "verdict": "other", "sounds": [["", 0, 1]]}',
             '{"item": "a", "verdict": "other", "sounds": [["hum", 0, Infinity]]}',
             '{"item": "a", "verdict": "other", "sounds": {"hum": 1}}'],
)  # fmt: skip
def test_a_line_that_is_no_answer_is_skipped_and_named(tmp_path, line, caplog):
    path = tmp_path / "a.jsonl"
    path.write_text('{"item": "b", "verdict": "wrong"}\n' + line + "\n")
    assert list(owl.annotation.read_reviews(path)) == ["b"]
    assert "first: line 2" in caplog.text
    path.write_text(line + "\n")
    with pytest.raises(TableError, match="line 1 is not a review answer"):
        owl.annotation.read_reviews(path)


def test_what_was_reviewed_is_a_clip_table_with_corrected_labels_and_edges(items):
    first, second, third, fourth = (item for _, item in items[items["kind"] == "event"].head(4).iterrows())
    stretch = items[items["kind"] == "stretch"].iloc[0]
    inside = (round(stretch["start_s"] + 0.1, 3), round(stretch["start_s"] + 0.3, 3))
    answers = [
        owl.annotation.ReviewAnswer(item=item_key(first), verdict="right", sounds=[(first["label"], 2.1, 2.9)]),
        owl.annotation.ReviewAnswer(item=item_key(second), verdict="wrong"),
        owl.annotation.ReviewAnswer(
            item=item_key(third), verdict="other", sounds=[("tock", third["start_s"], third["end_s"])]
        ),
        owl.annotation.ReviewAnswer(item=item_key(fourth), verdict="unsure"),
        owl.annotation.ReviewAnswer(item=item_key(stretch), verdict="other", sounds=[("hum", *inside)]),
    ]
    table = owl.annotation.reviewed_clips(items, {answer.item: answer for answer in answers})
    got = set(table[["start_s", "end_s", "label", "predicted"]].itertuples(index=False, name=None))
    assert got == {
        (2.1, 2.9, first["label"], first["label"]), (second["start_s"], second["end_s"], "", second["label"]),
        (third["start_s"], third["end_s"], "tock", third["label"]), (*inside, "hum", ""),
    }  # fmt: skip


def archive(rng, stretches=60, share=1 / 8):
    """A synthetic archive of which the truth is known: its items, and answers to a random sample of them."""
    labels = ["a", "b", "c"]
    rows = []
    for label, count, good in (("a", 300, 0.9), ("b", 120, 0.6), ("c", 60, 0.75)):
        for score in rng.uniform(size=count):
            truth = label if rng.random() < good + 0.2 * (score - 0.5) else rng.choice([*labels, "", "", ""])
            start = 10.0 * len(rows)
            rows.append(("f.wav", start, start + 1, label, score, truth))
    events = pd.DataFrame(rows, columns=[*COLUMNS, "truth"])
    items = owl.annotation.review_items(events[COLUMNS], stretches=0, listens=False, seed=int(rng.integers(1000)))
    items = items.assign(truth=events["truth"])
    total = 3000
    missed = np.where(rng.random(total) < 0.03, rng.choice(labels, total), "")
    begins = 1e5 + 5.0 * np.arange(stretches)
    drawn = pd.DataFrame({"file": "f.wav", "start_s": begins, "end_s": begins + 5, "label": "", "score": np.nan})
    drawn = drawn.assign(kind="stretch", stratum="stretch", of=total, draw=np.arange(1, stretches + 1),
                         truth=missed[:stretches], why="", informativeness=0.0)  # fmt: skip
    items, answers = pd.concat([items, drawn], ignore_index=True), {}
    for item in items.to_dict("records"):
        if item["kind"] == "event" and item["draw"] > share * item["of"]:
            continue
        key, there = item_key(item), [(item["truth"], item["start_s"], item["end_s"])] if item["truth"] else []
        verdict = "wrong" if not there else "right" if item["truth"] == item["label"] else "other"
        answers[key] = owl.annotation.ReviewAnswer(item=key, verdict=verdict, sounds=there)
    hits = {label: int(((items["label"] == label) & (items["truth"] == label)).sum()) for label in labels}
    there = {label: int((items.loc[items["kind"] == "event", "truth"] == label).sum() + (missed == label).sum())
             for label in labels}  # fmt: skip
    every = {label: int((items["label"] == label).sum()) for label in labels}
    for counts in (hits, there, every):
        counts["all"] = sum(counts.values())
    return items, answers, {x: (hits[x] / every[x], hits[x] / there[x]) for x in hits}


def test_intervals_hold_the_truth_about_as_often_as_they_say():
    inside = []
    for seed in range(25):
        items, answers, truth = archive(np.random.default_rng(seed))
        table = owl.annotation.estimate_quality(items, answers).table
        for label, (precision, recall) in truth.items():
            row = table.loc[label]
            inside.append((row["precision_low"] <= precision <= row["precision_high"],
                           row["recall_low"] <= recall <= row["recall_high"]))  # fmt: skip
    share = np.mean(inside, axis=0)
    assert (share > 0.89).all(), share


def test_when_all_is_reviewed_nothing_is_left_to_guess():
    items, answers, truth = archive(np.random.default_rng(0), stretches=3000, share=1)
    table = owl.annotation.estimate_quality(items, answers).table
    for label, (precision, recall) in truth.items():
        row = table.loc[label]
        assert row["precision"] == row["precision_low"] == row["precision_high"] == pytest.approx(precision)
        assert row["recall"] == row["recall_low"] == row["recall_high"] == pytest.approx(recall)


def test_answers_that_were_chosen_rather_than_drawn_do_not_count(items):
    chosen = items[(items["kind"] == "event") & (items["draw"] == 2)]
    answers = {item_key(item): right(item) for _, item in chosen.iterrows()}
    estimate = owl.annotation.estimate_quality(items, answers)
    assert estimate.table["reviewed"].sum() == 0
    assert estimate.table[["recall", "recall_low", "recall_high"]].isna().all(axis=None)
    assert np.isnan(estimate.table.loc["all", "recall"])


def test_recordings_that_were_moved_are_found_again(night, tmp_path):
    table = pd.DataFrame({"file": ["old/a/night.wav", "old/b/night.wav"], "label": "x"})
    for place in "ab":
        (tmp_path / "new" / place).mkdir(parents=True)
        (tmp_path / "new" / place / "night.wav").write_bytes((night / "night.wav").read_bytes())
    with pytest.raises(TableError, match="if the recordings were moved, name their folder"):
        recordings_at(table, None)
    moved = recordings_at(table, tmp_path / "new")
    assert moved["file"].tolist() == [str(tmp_path / "new" / place / "night.wav") for place in "ab"]
    with pytest.raises(TableError, match="could be"):
        recordings_at(pd.DataFrame({"file": ["other/night.wav"]}), tmp_path / "new")
    with pytest.raises(TableError, match="dawn.wav is not in"):
        recordings_at(pd.DataFrame({"file": ["other/dawn.wav"]}), tmp_path / "new")


@pytest.fixture
def served(items, tmp_path):
    with owl.show.ReviewServer(owl.show.Review(items), tmp_path / "answers.jsonl") as server:
        thread = threading.Thread(target=server.serve, daemon=True)
        thread.start()
        yield server, tmp_path / "answers.jsonl"
        server.stop()
        thread.join()


def ask(address, data=None, **headers):
    content = {"Content-Type": "application/json"} if data is not None else {}
    request = urllib.request.Request(address, data=data, headers=content | headers)  # noqa: S310
    try:
        with urllib.request.urlopen(request, timeout=10) as reply:  # noqa: S310
            return reply.status, reply.read()
    except urllib.error.HTTPError as error:
        return error.code, error.read()


def test_the_server_gives_the_page_sounds_and_pictures_and_keeps_answers(served, items):
    server, path = served
    assert ask(server.address)[0] == 200
    assert ask(server.address + "sound/3")[1][:4] == b"fLaC"
    assert ask(server.address + "picture/3")[1][:2] == b"\xff\xd8"
    code, reply = ask(server.address + "answer", json.dumps(
        {"item": item_key(items.iloc[0]), "verdict": "wrong", "sounds": []}).encode())  # fmt: skip
    assert code == 200
    assert json.loads(reply)["answered"] == 1
    assert owl.annotation.read_reviews(path)[item_key(items.iloc[0])].verdict == "wrong"
    # Another person adds to the same file; whoever loads the page again sees it.
    owl.annotation.add_answer(path, right(items.iloc[1]))
    ask(server.address)
    assert len(server.answers) == 2


def test_the_server_answers_nobody_else_and_gives_no_other_file(served):
    server, path = served
    root, token = server.address.rsplit("/", 2)[:2]
    nearly = token[:-1] + ("y" if token.endswith("x") else "x")
    for address, headers in (
        (f"{root}/", {}), (f"{root}/{nearly}/", {}), (server.address, {"Host": "evil.example"}),
        (server.address, {"Origin": "http://evil.example"}), (server.address, {"Origin": "null"}),
    ):  # fmt: skip
        assert ask(address, **headers)[0] == 403
    for place in (
        "sound/999",
        "sound/-1",
        "sound/../../etc/passwd",
        "etc/passwd",
        "sound/1/2",
        "sound/%31",
        "sound/²",
    ):
        assert ask(server.address + urllib.request.quote(place))[0] == 404
    for body in (b"{", b"[]", b"1", b"[" * 50_000, json.dumps({"item": "no such", "verdict": "wrong"}).encode()):
        assert ask(server.address + "answer", body)[0] == 400
    assert ask(server.address + "answer", b" " * 70_000)[0] == 413
    assert ask(server.address + "answer", b"{}", **{"Content-Type": "text/plain"})[0] == 404
    assert not path.exists()


def test_an_answer_that_cannot_be_saved_is_not_said_to_be(items, tmp_path):
    with owl.show.ReviewServer(owl.show.Review(items), tmp_path / "none" / "answers.jsonl") as server:
        with pytest.raises(OutputError, match="cannot be written"):
            server.add({"item": item_key(items.iloc[0]), "verdict": "wrong"})
        assert server.answers == {}


def test_a_port_that_is_taken_is_told(served, items, tmp_path):
    taken = int(served[0].address.split(":")[2].split("/")[0])
    with pytest.raises(OutputError, match=f"port {taken}"):
        owl.show.ReviewServer(owl.show.Review(items), tmp_path / "b.jsonl", port=taken)


def test_the_command_writes_page_table_and_estimate(night, items, tmp_path, capsys):
    events, page, answers = night / "events.csv", tmp_path / "review.html", tmp_path / "answers.jsonl"
    assert run(["review", str(events), "--stretches", "5"]) == 2
    assert "--serve" in capsys.readouterr().err
    assert run(["review", str(events), str(night), "--page", str(page), "--stretches", "5"]) == 0
    assert "23 items" in capsys.readouterr().out
    for _, item in items.iterrows():
        owl.annotation.add_answer(
            answers,
            right(item)
            if item["kind"] == "event"
            else owl.annotation.ReviewAnswer(item=item_key(item), verdict="wrong"),
        )
    out = tmp_path / "reviewed.csv"
    requested = ["review", str(events), str(night), "--stretches", "5", "--answers", str(answers), "-o", str(out)]
    assert run([*requested, "--json"]) == 0
    said = json.loads(capsys.readouterr().out)
    assert said["estimate"]["all"]["precision"] == 1
    assert said["estimate"]["all"]["recall"] == 1
    assert run(["score", str(events), str(out), "--json"]) == 0
    assert json.loads(capsys.readouterr().out)["scores"]["f1"]["value"] == 1
    clips = owl.clips.clips_of_events(owl.read_clip_table(out), 1.0)
    assert len(clips) == 18


def test_the_command_serves_until_it_is_ended_and_writes_what_all_said(night, items, tmp_path):
    out, code = tmp_path / "reviewed.csv", "from barn_owl.cli.main import main; main()"
    requested = ["review", str(night / "events.csv"), "--serve", "-o", str(out), "--quiet"]
    with subprocess.Popen([sys.executable, "-c", code, *requested], stderr=subprocess.PIPE, text=True) as child:
        assert "items to review" in child.stderr.readline()
        address = child.stderr.readline().strip()
        said = {"item": item_key(items.iloc[0]), "verdict": "wrong", "sounds": []}
        assert ask(address + "answer", json.dumps(said).encode())[0] == 200
        owl.annotation.add_answer(tmp_path / "reviewed.answers.jsonl", right(items.iloc[1]))
        child.send_signal(signal.SIGTERM)
        assert child.wait(20) == 0
    assert owl.read_clip_table(out)["answer"].tolist() == ["wrong", "right"]


pages = pytest.mark.skipif(CHROMIUM is None, reason="no Chromium on this machine")


@pytest.fixture
def tab(browser):  # noqa: F811
    opened, trouble = browser.new_context(), []
    page = opened.new_page()
    page.on("console", lambda said: trouble.append(said.text) if said.type in ("error", "warning") else None)
    page.on("pageerror", lambda error: trouble.append(str(error)))
    page.on("dialog", lambda dialog: trouble.append(dialog.message))
    page.trouble = trouble
    yield page
    assert trouble == []
    opened.close()


def until(tab, claim):
    """Wait until a claim about the page is true; requested from outside, as the page allows no text to be run."""
    for _ in range(200):
        if tab.evaluate(claim):
            return
        tab.wait_for_timeout(50)
    raise AssertionError(claim)


@pages
def test_all_is_done_by_keys_and_saved_at_once(served, items, tab):
    server, path = served
    tab.goto(server.address)
    first = tab.locator("#where").inner_text()
    tab.keyboard.press("r")
    until(tab, "document.getElementById('where').textContent != " + json.dumps(first))
    tab.keyboard.press("w")
    tab.keyboard.press("u")
    tab.keyboard.press("2")
    until(tab, "document.getElementById('progress').textContent.startsWith('4 of 23')")
    until(tab, "outbox.size == 0")
    verdicts = [answer.verdict for answer in owl.annotation.read_reviews(path).values()]
    assert {"right", "wrong", "unsure"} <= set(verdicts)
    assert len(verdicts) == 4
    tab.keyboard.press("p")
    tab.keyboard.press("z")
    until(tab, "outbox.size == 0")
    assert len(owl.annotation.read_reviews(path)) == 3
    # Loading the page again shows what was said.
    tab.reload()
    assert tab.locator("#progress").inner_text().startswith("3 of 23")


@pages
def test_edges_are_dragged_or_moved_by_keys_and_kept(served, tab):
    server, path = served
    tab.goto(server.address)
    tab.select_option("#order", "high")
    box, edge = tab.locator("#picture").bounding_box(), tab.locator("#from").bounding_box()
    before = float(tab.locator("#from").get_attribute("aria-valuenow"))
    tab.mouse.move(edge["x"] + edge["width"] / 2, edge["y"] + 50)
    tab.mouse.down()
    tab.mouse.move(edge["x"] + edge["width"] / 2 - 0.1 * box["width"], edge["y"] + 60, steps=4)
    tab.mouse.up()
    moved = float(tab.locator("#from").get_attribute("aria-valuenow"))
    assert moved == pytest.approx(before - 0.4, abs=0.02)
    tab.locator("#to").focus()
    tab.keyboard.press("Shift+ArrowRight")
    end = float(tab.locator("#to").get_attribute("aria-valuenow"))
    tab.click("#verdicts >> text=right")
    until(tab, "outbox.size == 0")
    (answer,) = owl.annotation.read_reviews(path).values()
    assert answer.sounds[0][1:] == pytest.approx((moved, end), abs=0.01)


@pages
def test_the_picture_is_zoomed_and_played_with_a_cursor(served, tab):
    tab.goto(served[0].address)
    before = tab.locator("#span").bounding_box()["width"]
    tab.keyboard.press("+")
    until(tab, f"document.getElementById('span').getBoundingClientRect().width > {1.5 * before}")
    tab.keyboard.press("a")
    until(
        tab,
        "!document.getElementById('cursor').hidden && parseFloat(document.getElementById('cursor').style.left) != 0",
    )


@pages
def test_what_was_missed_in_a_stretch_is_added(served, tab):
    server, path = served
    tab.goto(server.address)
    tab.select_option("#of_label", label="no event")
    assert tab.locator("#verdicts >> text=right").is_hidden()
    tab.click("#labels >> text=hum")
    tab.fill("#word", EVIL)
    tab.keyboard.press("Enter")
    until(tab, "outbox.size == 0")
    (answer,) = owl.annotation.read_reviews(path).values()
    assert [label for label, _, _ in answer.sounds] == ["hum", EVIL]
    assert EVIL in tab.locator("#sounds").inner_text()


@pages
def test_a_sound_is_played_with_a_little_around(served, tab):
    tab.goto(served[0].address)
    tab.keyboard.press(" ")
    until(tab, "player.audio.currentTime > 0.1")
    until(tab, "player.audio.paused")
    assert tab.evaluate("player.audio.currentTime") < tab.evaluate("player.audio.duration")


@pages
@pytest.mark.parametrize("reloaded", [False, True])
def test_what_the_server_could_not_take_is_kept_and_sent_later(items, tab, tmp_path, reloaded):
    path = tmp_path / "answers.jsonl"
    with owl.show.ReviewServer(owl.show.Review(items), path) as server:
        thread = threading.Thread(target=server.serve, daemon=True)
        thread.start()
        tab.goto(server.address)
        tab.route("**/answer", lambda route: route.fulfill(status=507, body="disk full"))
        tab.keyboard.press("w")
        until(tab, "document.getElementById('trouble').textContent.includes('disk full')")
        assert "1 answer is not saved yet" in tab.inner_text("#trouble")
        tab.unroute("**/answer")
        assert all("507" in text for text in tab.trouble)  # the browser itself notes the failed request
        tab.trouble.clear()
        if reloaded:
            tab.reload()
        until(tab, "outbox.size == 0")
        assert len(owl.annotation.read_reviews(path)) == 1
        server.stop()
        thread.join()


@pages
def test_the_file_keeps_answers_over_a_crash_and_saves_them(items, browser, tmp_path):  # noqa: F811
    context, page = browser.new_context(accept_downloads=True), tmp_path / "review.html"
    assert owl.show.write_review_page(owl.show.Review(items), page, download="mine.jsonl") == len(items)
    tab = context.new_page()
    tab.goto(page.as_uri())
    tab.keyboard.press("r")
    tab.keyboard.press("w")
    tab.close()
    tab = context.new_page()
    tab.goto(page.as_uri())
    assert tab.locator("#progress").inner_text().startswith("2 of 23")
    tab.keyboard.press(" ")
    until(tab, "player.audio.currentTime > 0")
    with tab.expect_download() as download:
        tab.click("#save")
    assert download.value.suggested_filename == "mine.jsonl"
    assert len(owl.annotation.read_reviews(download.value.path())) == 2
    context.close()


@pages
def test_two_thousand_events_on_a_narrow_dark_screen(night, browser, tmp_path):  # noqa: F811
    rng = np.random.default_rng(0)
    rows = [(str(night / "night.wav"), s, s + 0.5, f"{EVIL} {n % 12}", 0.5 + 0.4 * rng.random())
            for n, s in enumerate(np.linspace(0, 59, 2000).round(3))]  # fmt: skip
    items = owl.annotation.review_items(pd.DataFrame(rows, columns=COLUMNS), stretches=0, listens=False)
    with owl.show.ReviewServer(owl.show.Review(items), tmp_path / "answers.jsonl") as server:
        threading.Thread(target=server.serve, daemon=True).start()
        context = browser.new_context(viewport={"width": 400, "height": 800}, color_scheme="dark")
        tab, trouble = context.new_page(), []
        tab.on("pageerror", lambda error: trouble.append(str(error)))
        tab.on("dialog", lambda dialog: trouble.append(dialog.message))
        tab.goto(server.address)
        for _ in range(12):
            tab.keyboard.press("r")
        until(tab, "document.getElementById('progress').textContent.startsWith('12 of 2000')")
        until(tab, "outbox.size == 0")
        assert len(owl.annotation.read_reviews(tmp_path / "answers.jsonl")) == 12
        assert tab.evaluate("document.documentElement.scrollWidth") <= 400
        # Every control has a name, and shows when it has the focus.
        nameless = """[...document.querySelectorAll('button, select, input, [role=slider]')].filter((one) =>
            !(one.textContent.trim() || one.getAttribute('aria-label') || one.labels?.length)).length"""
        assert tab.evaluate(nameless) == 0
        tab.keyboard.press("Tab")
        assert tab.evaluate("getComputedStyle(document.activeElement).outlineStyle") == "solid"
        assert tab.evaluate("getComputedStyle(document.body).backgroundColor") == "rgb(20, 27, 35)"
        assert trouble == []
        context.close()
        server.stop()


def test_a_picture_of_a_item_has_its_frequencies_marked(night):
    review = owl.show.Review(owl.annotation.review_items(owl.read_events(night / "events.csv"), stretches=0))
    marks = review.marks()
    assert {mark["hz"] for mark in marks} >= {1000, 2000, 4000}
    ups = [mark["up"] for mark in sorted(marks, key=lambda mark: mark["hz"])]
    assert ups == sorted(ups)
    assert 0.12 < ups[0] < ups[-1] < 1
