"""Pages in a real browser: cells open, clips play, tables sort, nothing goes out, names are not run."""

import shutil

import pytest
import soundfile

from barn_owl.clips import gather_folder, read_clip_table
from barn_owl.evaluate import predict
from barn_owl.model import load_model
from barn_owl.runs import compare_runs, open_run, train
from barn_owl.show import write_comparison_page, write_listening_page, write_report
from helpers import small_plan, sound

CHROMIUM = shutil.which("chromium") or shutil.which("chromium-browser") or shutil.which("google-chrome")
FLAGS = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-background-networking",
    "--autoplay-policy=no-user-gesture-required",
]
EVIL = "<img src=x onerror=alert(1)>"

pytestmark = [
    pytest.mark.usefixtures("drawn"),
    pytest.mark.skipif(CHROMIUM is None, reason="no Chromium on this machine"),
]


@pytest.fixture(scope="module")
def browser():
    from playwright.sync_api import sync_playwright

    with sync_playwright() as playwright:
        chromium = playwright.chromium.launch(executable_path=CHROMIUM, args=FLAGS)
        yield chromium
        chromium.close()


@pytest.fixture
def page(browser):
    """A page that notes every complaint of the console and every request to a network; there must be none."""
    opened = browser.new_page()
    trouble: list[str] = []
    opened.on(
        "console", lambda message: trouble.append(message.text) if message.type in ("error", "warning") else None
    )
    opened.on("pageerror", lambda error: trouble.append(str(error)))
    opened.on(
        "request",
        lambda requested: (
            None if requested.url.startswith(("file:", "data:", "blob:")) else trouble.append(requested.url)
        ),
    )
    opened.on("dialog", lambda dialog: trouble.append(dialog.message))
    yield opened
    assert trouble == []
    opened.close()


@pytest.fixture(scope="module")
def spoiled(tmp_path_factory):
    """A run with mistakes, and with a label and a file name that would run as script if not escaped."""
    import numpy as np

    folder, rng = tmp_path_factory.mktemp("evil") / "clips", np.random.default_rng(3)
    names = {"hum": "hum", "hiss": "hiss", EVIL.replace("/", ""): "tick"}
    for label, kind in names.items():
        (folder / label).mkdir(parents=True)
        for number in range(12):
            other = "hum" if kind == "hiss" and number < 4 else kind  # four hisses that are hums
            soundfile.write(folder / label / f"rec{number % 4}_{number:02d}'&lt;.wav", sound(other, rng), 16_000)
    clips = gather_folder(folder, names="{group}_{take}").clips
    run = train(clips, folder.parent / "run", small_plan("logistic", background=[]))
    write_report(run, run.evaluate(), run.folder / "report.html")
    return run


def test_a_report_is_used(page, spoiled):
    report = spoiled.folder / "report.html"
    assert report.stat().st_size < 15_000_000
    page.goto(report.as_uri())
    assert "Balanced accuracy" in page.inner_text(".lead")
    assert page.locator("h2").all_inner_texts()[-1].startswith("Settings")
    cell = page.locator(".confusion td button").first
    count = int(cell.inner_text())
    cell.focus()
    page.keyboard.press("Enter")
    assert cell.get_attribute("aria-pressed") == "true"
    assert page.locator("#cell li").count() == count
    page.locator("#cell button.play").first.click()
    page.wait_for_function(
        "() => { const a = document.querySelector('#player audio'); return !a.paused && a.currentTime > 0; }"
    )
    recall = page.locator("th button", has_text="recall").first
    recall.click()
    rows = "[...document.querySelectorAll('table.sortable')[0].tBodies[0].rows]"
    column = f"() => {rows}.map(r => +r.cells[2].dataset.value)"
    falling = page.evaluate(column)
    recall.click()
    assert page.evaluate(column) == sorted(falling)
    assert falling == sorted(falling, reverse=True)
    assert page.evaluate("document.querySelectorAll('img[src=x]').length") == 0
    assert EVIL in page.content().replace("&lt;", "<").replace("&gt;", ">")


def test_corrections_made_on_the_page_can_be_read(page, spoiled, tmp_path):
    page.goto((spoiled.folder / "report.html").as_uri())
    page.locator(".confusion td button").first.click()
    page.locator("#cell select").first.select_option("hiss")
    with page.expect_download() as waiting:
        page.click("button.save")
    waiting.value.save_as(tmp_path / "corrections.csv")
    table = read_clip_table(tmp_path / "corrections.csv")
    assert table["correct_label"].tolist() == ["hiss"]
    assert "1 corrections saved" in page.inner_text("#saved")


@pytest.mark.parametrize(("width", "scheme"), [(390, "light"), (1280, "dark")])
def test_a_report_fits_a_phone_and_the_dark(browser, spoiled, width, scheme):
    page = browser.new_page(viewport={"width": width, "height": 800}, color_scheme=scheme)
    page.goto((spoiled.folder / "report.html").as_uri())
    assert page.evaluate("document.documentElement.scrollWidth") <= width
    red, green, blue = page.evaluate(
        "getComputedStyle(document.body).backgroundColor.match(/\\d+/g).slice(0, 3).map(Number)"
    )
    assert (red + green + blue < 200) == (scheme == "dark")
    named = "e => e.textContent.trim() || e.ariaLabel || e.alt"
    names = page.evaluate(f"[...document.querySelectorAll('button, select, img')].filter({named}).length")
    assert names == page.locator("button, select, img").count() > 20
    page.close()


def test_a_listening_page_plays_unlabeled_clips(page, runs, folder, tmp_path):
    model = load_model(runs["cnn"].folder)
    clips = gather_folder(folder).clips.assign(label="")
    said, _ = predict(model, clips.head(20))
    said.loc[:2, ["predicted", "reason"]] = ["(none)", "no label is heard in it"]
    write_listening_page(model, said, tmp_path / "named.html")
    page.goto((tmp_path / "named.html").as_uri())
    assert "20 clips, 0 of them undecided, 3 of no label" in page.inner_text(".lead")
    assert page.locator("h2").first.inner_text().startswith("none of the labels (3)")
    assert page.locator("li", has_text="no label is heard in it").count() == 3
    page.locator("button.play").first.click()
    page.wait_for_function("() => !document.querySelector('#player audio').paused")
    assert page.locator("select option", has_text="not labeled").count() > 0


def test_a_comparison_page_says_what_differs(page, ranking, tmp_path):
    folders = [ranking[0] / classifier for classifier in ("cnn", "logistic", "majority")]
    write_comparison_page(compare_runs(folders), tmp_path / "comparison.html")
    page.goto((tmp_path / "comparison.html").as_uri())
    said = page.inner_text("main")
    assert "classifier" in said
    assert "Recall by label" in said
    page.locator("th button", has_text="balanced accuracy").first.click()


def test_a_page_of_many_clips_stays_small(spoiled, tmp_path):
    write_report(spoiled, spoiled.evaluate(), tmp_path / "small.html", budget=50_000)
    assert (tmp_path / "small.html").stat().st_size < 1_200_000
    assert open_run(spoiled.folder).provenance["clips"] == 36
