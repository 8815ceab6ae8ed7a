"""Both forms of a store under any sequence of commands, compared with a dictionary."""

import shutil
import tempfile
from dataclasses import asdict, replace
from pathlib import Path

import pandas as pd
import pytest
from hypothesis import settings, strategies as st
from hypothesis.stateful import Bundle, RuleBasedStateMachine, consumes, initialize, invariant, rule

from barn_owl.archive.entries import COLUMNS, StoreEntry, StoreQuery, entries_of, entry_of
from barn_owl.archive.store import hours_of, open_store, read_store
from barn_owl.errors import TableError

MODELS, FILES, DAYS, RECORDERS = (
    ("m1", "m2"),
    ("a.wav", "b/c d.wav", "é.flac"),
    ("2026-05-01", "unknown"),
    ("n", "s/2"),
)
TIMES = st.floats(0, 1e5).map(lambda s: round(s, 3))
EVENTS = st.lists(st.tuples(TIMES, st.sampled_from(["knock", "gull, far"]), st.floats(0, 1)), max_size=4)


def table(recorded: StoreEntry, found: list[tuple[float, str, float]]) -> pd.DataFrame:
    rows = [(recorded.file, at, at + 0.5, label, score, "", recorded.key) for at, label, score in found]
    return pd.DataFrame(rows, columns=list(COLUMNS))


class Stores(RuleBasedStateMachine):
    """A store and its expected content: recordings with events, and pieces of unfinished recordings."""

    ending = ""
    kept = Bundle("kept")

    @initialize()
    def begin(self):
        self.folder = Path(tempfile.mkdtemp())
        self.path = self.folder / f"store{self.ending}"
        self.store = open_store(self.path)
        self.known: dict[tuple[str, str], tuple[StoreEntry, list[tuple[float, str, float]]]] = {}
        self.pieces: dict[str, bytes] = {}
        self.number = 0

    @rule(
        model=st.sampled_from(MODELS), file=st.sampled_from(FILES), day=st.sampled_from(DAYS),
        recorder=st.sampled_from(RECORDERS), found=EVENTS,
    )  # fmt: skip
    def finishes(self, model, file, day, recorder, found):
        self.number += 1
        one = StoreEntry(
            key=f"{self.number:064x}", model=model, file=file, stamp=["x", self.number, 1.5], content="c", day=day,
            recorder=recorder, begins="2026-05-01T23:30:00", duration_s=7200.0, events=len(found),
            hours={label: {"23": sum(own == label for _, own, _ in found)} for _, label, _ in found},
        )  # fmt: skip
        self.store.add(one, table(one, found))
        self.known[model, file] = one, found

    @rule(model=st.sampled_from(MODELS), file=st.sampled_from(FILES))
    def fails(self, model, file):
        one = StoreEntry(
            key="0" * 64, model=model, file=file, stamp=[], content="", day="unknown", recorder="n", begins="",
            duration_s=0.0, events=0, reason="it is cut off",
        )  # fmt: skip
        self.store.add(one, table(one, []))
        if (model, file) not in self.known or self.known[model, file][0].reason:  # finished recordings are not hidden
            self.known[model, file] = one, []

    @rule(target=kept, name=st.sampled_from(["a-1", "a-2", "b-1"]), content=st.binary(max_size=9))
    def keeps_a_piece(self, name, content):
        self.store.keep_piece(name, content)
        self.pieces[name] = content
        return name

    @rule(name=consumes(kept))
    def drops_pieces(self, name):
        self.store.drop_pieces(name[:2])
        self.pieces = {own: content for own, content in self.pieces.items() if not own.startswith(name[:2])}

    @rule()
    def is_opened_by_another_command(self):
        self.store = open_store(self.path)

    @invariant()
    def holds_what_was_added(self):
        known = {key: one for key, (one, _) in self.known.items()}
        assert {(one.model, one.file): one for one in self.store.recordings()} == known
        assert len(self.store.recordings()) == len(known)
        for model in MODELS:
            own = [one for key, one in known.items() if key[0] == model]
            assert sorted(one.file for one in self.store.recordings(model)) == sorted(one.file for one in own)
        assert all(self.store.holds(one) for one in known.values())
        assert {name: self.store.piece(name) for name in self.pieces} == self.pieces
        assert self.store.piece("c") is None
        with_events = {one.model for one, found in self.known.values() if found}
        assert with_events <= set(self.store.models()) <= {one.model for one in known.values()}

    @invariant()
    def answers_what_is_asked(self):
        ways = [StoreQuery(), StoreQuery(model="m1", files=FILES[:2]), StoreQuery(files=FILES[2:])]
        ways += [StoreQuery(day=day, recorder=recorder) for day in DAYS for recorder in RECORDERS]
        for requested in ways:
            parts = list(self.store.batches(requested, ("file", "start_s", "label", "score")))
            rows = [tuple(row) for part in parts for row in part.itertuples(index=False)]
            wanted = [
                (one.file, at, label, score)
                for one, found in self.known.values()
                if requested.takes(one)
                for at, label, score in found
            ]
            assert sorted(rows) == sorted(wanted)

    def teardown(self):
        shutil.rmtree(self.folder, ignore_errors=True)


class SqliteStores(Stores):
    ending = ".sqlite"


for kind in (Stores, SqliteStores):
    kind.TestCase.settings = settings(max_examples=12, stateful_step_count=12, deadline=None)
TestParquet, TestSqlite = Stores.TestCase, SqliteStores.TestCase


def recorded(**changes) -> StoreEntry:
    plain = StoreEntry(
        key="k", model="m", file="a.wav", stamp=["a", 1, 2.0], content="c", day="2026-05-01", recorder="n",
        begins="2026-05-01T23:30:00", duration_s=7200.0, events=3, hours={"knock": {"23": 1, "0": 2}},
    )  # fmt: skip
    return replace(plain, **changes)


def test_hours_are_counted_without_the_events_and_over_midnight():
    counted = hours_of([recorded(), recorded(file="b", begins=""), recorded(file="c", reason="cut off")])
    assert counted["knock"].to_dict() == {hour: {23: 1, 0: 2}.get(hour, 0) for hour in range(24)}
    assert counted["recorded_s"][[23, 0, 1, 2]].tolist() == [1800, 3600, 1800, 0]
    assert list(hours_of([])) == ["recorded_s"]


def test_a_line_of_the_manifest_comes_back_or_is_passed_over():
    assert entry_of(asdict(recorded())) == recorded()
    whole = pd.Series(asdict(recorded())).to_json()
    assert list(entries_of([whole, whole[:40], "", "[]", "null", "[" * 5000])) == [recorded()]


@pytest.mark.parametrize(
    "changes",
    [
        {"events": "3"}, {"stamp": {}}, {"duration_s": None}, {"begins": "yesterday"}, {"color": "red"},
        {"hours": {"knock": {"24": 1}}}, {"hours": {"knock": {"1": "x"}}},
    ],
)  # fmt: skip
def test_a_line_that_says_something_else_is_refused(changes):
    with pytest.raises((TypeError, ValueError)):
        entry_of(asdict(recorded()) | changes)


@pytest.mark.parametrize("ending", ["", ".sqlite"])
def test_who_reads_events_of_several_models_must_say_which(tmp_path, ending):
    path = tmp_path / f"store{ending}"
    for model in ("abc1", "abd2"):
        one = recorded(model=model, key=model * 16, events=1, hours={})
        open_store(path).add(one, table(one, [(1.0, "knock", 0.9)]))
    with pytest.raises(TableError, match=r"events of 2 models or settings: abc1, abd2; say which"):
        read_store(path)
    assert len(read_store(path, model="abd")) == 1
    with pytest.raises(TableError, match=r"no events of x; it knows abc1, abd2"):
        read_store(path, model="x")
