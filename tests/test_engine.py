"""The engine that many files go through, on this machine; tests/test_cluster.py has the same on a cluster."""

import os
import threading
from functools import partial
from pathlib import Path

import pytest

from barn_owl.audio.prefetch import prefetch
from barn_owl.errors import EngineError
from barn_owl.names import as_text, from_text, relative_to
from barn_owl.parallel import at_a_time, each, engine, on_cluster


def test_work_in_processes_is_done_elsewhere_and_comes_in_order():
    assert list(each(partial(pow, 2), range(20), 2, processes=True)) == [2**n for n in range(20)]
    done_by = set(each(lambda _: os.getpid(), range(8), 2, processes=True))
    assert os.getpid() not in done_by
    assert set(each(lambda _: os.getpid(), range(8), 2)) == {os.getpid()}


def test_a_single_item_or_worker_starts_nothing():
    here = threading.get_ident()
    assert list(each(lambda _: threading.get_ident(), [1], 8, processes=True)) == [here]
    assert list(each(lambda _: threading.get_ident(), [1, 2, 3], 1, processes=True)) == [here] * 3


@pytest.mark.parametrize("processes", [False, True])
def test_an_error_of_the_work_is_raised_here(processes):
    def fails(number):
        if number == 5:
            raise ValueError("the fifth")
        return number

    got = []
    with pytest.raises(ValueError, match="the fifth"):
        got.extend(each(fails, range(10), 2, processes=processes))
    assert got == list(range(len(got)))
    assert len(got) <= 5


def test_the_engine_is_chosen_for_a_block_alone():
    assert (at_a_time(3), on_cluster()) == (3, False)
    with engine("local") as chosen, engine("local") as inner:
        assert chosen is inner
        assert (at_a_time(3), on_cluster()) == (3, False)
        assert list(each(abs, [-1, -2, -3], 2)) == [1, 2, 3]
    with pytest.raises(EngineError, match="is not local, an address"), engine("nowhere"):
        pass
    assert not on_cluster()


def test_relative_names_are_looked_up_where_the_command_was_given(tmp_path):
    name = as_text("caf\udce9.wav")
    (tmp_path / from_text(name)).write_bytes(b"here")

    def read():
        yield Path(from_text(name)).read_bytes()

    with relative_to(str(tmp_path)):
        assert list(read()) == [b"here"]
        assert list(prefetch(read())) == [b"here"]  # in another thread, too
        assert from_text("/elsewhere.wav") == "/elsewhere.wav"
        with relative_to("inner"):
            assert from_text("a.wav") == os.path.join("inner", "a.wav")  # noqa: PTH118 - what is meant
        assert from_text("a.wav") == str(tmp_path / "a.wav")
    assert from_text(name) == "caf\udce9.wav"
    with pytest.raises(FileNotFoundError):
        next(read())
