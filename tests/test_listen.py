"""Live tagging: the same events as offline, with any source that fails, hangs or stalls."""

import fcntl
import http.server
import io
import itertools
import json
import os
import signal
import struct
import subprocess
import sys
import termios
import threading
import time
import tracemalloc
import types
from datetime import datetime

import numpy as np
import pandas as pd
import psutil
import pytest
from hypothesis import given, settings, strategies as st

import barn_owl as owl
from barn_owl.audio import Break, incoming
from barn_owl.audio.sources import Inlet
from barn_owl.cli.main import run
from barn_owl.errors import AudioError, PlanError
from barn_owl.live import LiveEvent
from barn_owl.tag import ScoreStream
from helpers import RATE_HZ, sound

INF = float("inf")
COLUMNS = ["start_s", "end_s", "label"]


def night(rng, seconds=20):
    parts = [sound("still", rng, 1.0) if n % 2 else sound(["hum", "tick", "hiss"][n // 2 % 3], rng, 1.0)
             for n in range(seconds)]  # fmt: skip
    return np.concatenate(parts)


def played(samples, **more):
    return owl.audio.SimulatedMicrophone(iter([samples]), RATE_HZ, **{"speed": INF} | more)


def rows(events):
    return sorted((round(e.start_s, 3), round(e.end_s, 3), e.label) for e in events)


def scores_of(model, samples, every_s, size):
    stream = ScoreStream(model, every_s=every_s)
    parts = [block for at in range(0, len(samples), size) for block in stream.push(samples[at : at + size])]
    return np.concatenate([block.activity for block in [*parts, *stream.finish()]])


@pytest.fixture(scope="module")
def at_once(runs):
    """Samples, and their scores by each model when nothing is returned early."""
    samples = night(np.random.default_rng(1), 8)
    return samples, [(one.model, scores_of(one.model, samples, None, len(samples))) for one in runs.values()]


@settings(max_examples=12)
@given(every_s=st.floats(0.05, 6.0), size=st.integers(800, 60_000))
def test_scores_that_are_given_out_early_are_the_same_to_the_last_bit(at_once, every_s, size):
    samples, wholes = at_once
    for model, whole in wholes:
        assert np.array_equal(scores_of(model, samples, every_s, size), whole)


def test_what_is_heard_is_what_tagging_finds(run, rng, tmp_path):
    samples = night(rng)
    owl.write_audio(tmp_path / "night.wav", samples, RATE_HZ)
    tagged = owl.tag_recording(run.model, tmp_path / "night.wav")
    heard = list(owl.Listener(run.model, played(owl.read_audio(tmp_path / "night.wav")[0])).events())
    assert len(heard) > 3
    assert rows(heard) == sorted(map(tuple, tagged[COLUMNS].itertuples(index=False)))


def test_no_event_of_a_source_that_is_faster_than_real_time_is_in_the_future(run, rng):
    begins = [(event.begins, datetime.now().astimezone()) for event in
              owl.Listener(run.model, played(night(rng))).events()]  # fmt: skip
    assert len(begins) > 3
    assert all(begin <= now for begin, now in begins)


def test_events_come_soon_after_their_end(run, rng):
    # Where only the higher-scoring of two may stay, an event waits for another that is not over.
    decoding = run.model.decoding.but(max_overlap=1.0)
    listener, latest = owl.Listener(run.model, played(night(rng)), decoding=decoding), 0.0
    for found in listener.steps():
        latest = max([latest, *(listener.seconds - heard.end_s for heard in found)])
    assert 0 < latest <= listener.latency_s < 5


def test_a_microphone_that_went_away_comes_back_and_times_go_on(run, rng):
    samples = night(rng)
    source = played(samples, away=(1, 7.5))
    listener = owl.Listener(run.model, source, began=datetime(2026, 5, 1, 22, 0).astimezone())
    heard = list(listener.events())
    assert listener.breaks == 1
    assert 0.9 < listener.lost_s < 3
    assert listener.seconds == pytest.approx(20 + listener.lost_s, abs=0.2)
    assert any("went away" in text for text in listener.warnings())
    assert max(one.start_s for one in heard) > 15
    assert all(abs((one.begins - listener.began).total_seconds() - one.start_s) < 1e-3 for one in heard)


def test_a_microphone_that_never_was_there_is_an_error(run):
    class Nothing:
        rate_hz, comes_back = RATE_HZ, True

        def deliver(self, inlet):
            raise AudioError("no such device")

    with pytest.raises(AudioError, match="no such device"):
        list(owl.Listener(run.model, Nothing()).events())


class Card(types.ModuleType):
    """A stand-in for the package that talks to the sound card: it delivers a second, loses some, and falls silent."""

    class PortAudioError(Exception):
        pass

    class InputStream:
        opened = 0

        def __init__(self, samplerate, callback, blocksize, **_settings):
            self.active, self.callback = True, callback
            self.rate_hz, self.size = samplerate, blocksize

        def __enter__(self):
            Card.InputStream.opened += 1
            lost = types.SimpleNamespace(input_overflow=True)
            for number in range(10):
                block = np.full((self.size, 1), 0.1, np.float32)
                self.callback(block, self.size, None, lost if number == 5 else None)
            self.active = False
            return self

        def __exit__(self, *_):
            pass

    def __init__(self, *rates):
        super().__init__("sounddevice")
        self.rates = rates

    def check_input_settings(self, samplerate, **_settings):
        if samplerate not in self.rates:
            raise ValueError("Invalid sample rate")

    def query_devices(self, _device, _kind):
        return {"default_samplerate": float(self.rates[0])}


def test_a_sound_card_is_listened_to_and_tried_again_when_it_falls_silent(monkeypatch):
    monkeypatch.setitem(sys.modules, "sounddevice", Card(16_000))
    monkeypatch.setattr("barn_owl.audio.sources.RETRY_S", 0.05)
    stop, blocks, breaks = threading.Event(), 0, []
    for came in incoming(owl.audio.SoundCard(), stop=stop):  # without the usual rate, the device's rate is used
        blocks += isinstance(came, np.ndarray)
        breaks += [came.why] if isinstance(came, Break) and came.why else []
        if Card.InputStream.opened > 2:
            stop.set()
    assert blocks >= 20
    assert breaks[0].startswith("the sound card lost some sound")
    assert "the microphone delivers nothing any more" in breaks


def test_a_rate_that_a_sound_card_does_not_offer_is_told_with_the_one_it_does(monkeypatch):
    monkeypatch.setitem(sys.modules, "sounddevice", Card(48_000))
    with pytest.raises(AudioError, match="it offers 48000 Hz"):
        owl.audio.SoundCard(rate_hz=8000)


def test_sound_that_finds_no_room_is_counted_and_the_break_lies_where_it_was():
    inlet = Inlet(1000, waiting_s=1.0)
    for number in range(15):
        inlet.put(np.full(100, number, np.float32))
    taken = [inlet.take(0) for _ in range(10)]
    inlet.put(np.full(100, 99, np.float32))
    assert [block[0] for block in taken] == list(range(10))
    missing = inlet.take(0)
    assert isinstance(missing, Break)
    assert missing.lost_s == pytest.approx(0.5)
    assert inlet.take(0)[0] == 99
    assert inlet.take(0) is None


def test_a_pipe_that_stalls_is_told_and_ends_when_it_ends(run, rng, monkeypatch):
    monkeypatch.setattr("barn_owl.live.listener.QUIET_S", 0.5)
    out, into = os.pipe()
    samples = (night(rng, 4) * 32767).astype("<i2").tobytes()

    def write():
        with os.fdopen(into, "wb") as pipe:
            pipe.write(samples[: len(samples) // 2])
            pipe.flush()
            time.sleep(1.2)
            pipe.write(samples[len(samples) // 2 :] + b"\x01")  # a sample that is cut off

    threading.Thread(target=write).start()
    with os.fdopen(out, "rb", buffering=0) as pipe:
        listener = owl.Listener(run.model, owl.audio.RawPipe(pipe, RATE_HZ))
        heard = list(listener.events())
    assert listener.seconds == pytest.approx(4.0, abs=0.01)
    assert heard
    assert listener.warnings() == ["nothing received for 0.5 s; still waiting"]


def test_samples_of_a_pipe_that_are_no_numbers_are_silence(run, caplog):
    raw = np.full(8000, np.nan, "<f4").tobytes()
    pipe = owl.audio.RawPipe(io.BytesIO(raw), RATE_HZ, sample_type="float32")
    assert not list(owl.Listener(run.model, pipe).events())
    assert "float32" in caplog.text


def test_an_excerpt_holds_the_event_and_what_is_around_it(run, rng):
    samples = night(rng)
    for heard in owl.Listener(run.model, played(samples), lead_s=0.25).events():
        first, last = round((heard.start_s - 0.25) * RATE_HZ), round((heard.end_s + 0.25) * RATE_HZ)
        assert np.array_equal(heard.excerpt, samples[max(first, 0) : last])


def test_memory_does_not_grow_with_the_time_that_is_listened_to(runs, rng):
    block = night(rng, 4)

    def peak(times):
        source = owl.audio.SimulatedMicrophone(iter([block] * times), RATE_HZ, speed=INF)
        tracemalloc.start()
        for _ in owl.Listener(runs["logistic"].model, source, lead_s=0.5, every_s=4.0).events():
            pass
        used = tracemalloc.get_traced_memory()[1]
        tracemalloc.stop()
        return used

    peak(2)
    assert peak(60) < 1.5 * peak(20)  # both longer than the memory for excerpts


def test_a_simulated_microphone_above_real_time_waits_for_a_slow_listener(runs, rng):
    source = owl.audio.SimulatedMicrophone(iter([night(rng, 4)] * 20), RATE_HZ, speed=5000.0)
    listener = owl.Listener(runs["logistic"].model, source)
    list(listener.events())
    assert listener.seconds == 80
    assert not listener.lost_s


def event(label="hum", start_s=1.0):
    return LiveEvent(start_s, start_s + 0.5, label, 0.9, datetime(2026, 5, 1).astimezone())


def test_a_command_gets_a_label_as_one_argument_and_no_shell_runs(tmp_path):
    target = tmp_path / "out put.txt"
    script = f"import sys; open({str(target)!r}, 'a').write(repr(sys.argv[1:]) + '\\n')"
    notices = owl.live.command_notifier(
        f"'{sys.executable}' -c \"{script}\" {{label}} 'at {{start_s}}'", interval_s=10
    )
    nasty = "$(touch owned); `id` \" ' | & \n %s {label}"
    for one in (event(nasty), event(nasty, 5.0), event("hum", 6.0), event(nasty, 12.0)):
        notices.notify(one)
    notices.close(30)
    assert notices.warnings() == []
    lines = target.read_text().splitlines()
    assert lines == [repr([nasty, "at 1.0"]), repr(["hum", "at 6.0"]), repr([nasty, "at 12.0"])]


def test_a_slow_command_holds_nothing_up_and_is_stopped():
    notices = owl.live.command_notifier("sleep 60", max_duration_s=0.3)
    begin = time.monotonic()
    for number in range(100):
        notices.notify(event(start_s=float(number)))
    assert time.monotonic() - begin < 20  # a command would delay it for longer
    while not notices.failed and time.monotonic() - begin < 60:  # however long it takes to begin a process
        time.sleep(0.05)
    notices.close(0.8)
    assert notices.failed >= 1
    assert notices.dropped > 90
    assert "longer than 0.3 s" in notices.warnings()[0]


@pytest.mark.parametrize(
    ("command", "message"),
    [("no-such-command-here {label}", "cannot be found"), ("echo {lable}", "did you mean label"),
     ("echo {label.__class__}", "there are label"), ("echo {score!r}", "say {score} alone"),
     ("echo '", "cannot be split"), ("", "cannot be found")],
)  # fmt: skip
def test_a_command_that_cannot_work_is_told_before_listening(command, message):
    with pytest.raises(PlanError, match=message):
        owl.live.command_notifier(command)


def test_events_are_posted_and_failures_tried_again_and_told(monkeypatch):
    monkeypatch.setattr("barn_owl.live.webhook.BACKOFF_S", 0.01)
    got, codes = [], [503, 200, 400]

    class Handler(http.server.BaseHTTPRequestHandler):
        def do_POST(self):
            got.append(json.loads(self.rfile.read(int(self.headers["Content-Length"]))))
            self.send_response(codes[len(got) - 1])
            self.end_headers()

        def log_message(self, *_):
            pass

    with http.server.HTTPServer(("127.0.0.1", 0), Handler) as server:
        threading.Thread(target=server.serve_forever, daemon=True).start()
        notices = owl.live.http_notifier(f"http://127.0.0.1:{server.server_port}/owl")
        notices.notify(event())
        notices.notify(event("tick"))
        notices.close()
        server.shutdown()
    assert [one["label"] for one in got] == ["hum", "hum", "tick"]
    assert got[0] == event().record()
    assert (notices.sent, notices.failed) == (1, 1)
    assert "400" in notices.warnings()[0]
    with pytest.raises(PlanError, match="http"):
        owl.live.http_notifier("file:///etc/passwd")


def test_the_command_writes_lines_table_excerpts_and_json(runs, rng, tmp_path, capsys):
    owl.write_audio(tmp_path / "night.wav", night(rng), RATE_HZ)
    model = tmp_path / "model.safetensors"
    runs["cnn"].model.save(model)
    common = ["listen", str(model), "--microphone", f"simulated:{tmp_path / 'night.wav'}", "--speed", "inf"]
    assert run([*common, "-o", str(tmp_path / "live.csv"), "--excerpts", str(tmp_path / "heard")]) == 0
    said = capsys.readouterr().out
    table = owl.read_clip_table(tmp_path / "live.csv")
    assert f"Detected {len(table)} events in 20.0 s" in said
    assert len(list((tmp_path / "heard").rglob("*.flac"))) == len(table) > 3
    assert run([*common, "--json", "-o", str(tmp_path / "live.jsonl")]) == 0
    lines = [json.loads(line) for line in capsys.readouterr().out.splitlines()]
    assert [line["label"] for line in lines] == table["label"].tolist()
    assert owl.read_events(tmp_path / "live.jsonl")["start_s"].tolist() == table["start_s"].tolist()
    assert run([*common, "-o", str(tmp_path / "live.csv")]) == 0
    assert len(owl.read_clip_table(tmp_path / "live.csv")) == len(table)  # the same times: repeated rows
    assert run(["listen", str(model), "--microphone", "-"]) == 2
    assert "--rate-hz" in capsys.readouterr().err


def wait_until_done(child):
    """Wait until a process has taken all that it was sent and has nothing more to do, however slow it is."""
    done, standing = None, 0
    while standing < 5:
        time.sleep(0.1)
        waiting = fcntl.ioctl(child.stdin, termios.FIONREAD, struct.pack("i", 0))
        before, done = done, sum(psutil.Process(child.pid).cpu_times()[:2])
        standing = standing + 1 if done == before and not struct.unpack("i", waiting)[0] else 0


@pytest.mark.parametrize("number", [signal.SIGINT, signal.SIGTERM])
def test_a_signal_ends_it_cleanly_with_the_last_event(runs, rng, tmp_path, number):
    samples = (np.concatenate([sound("still", rng, 2.0), sound("hum", rng, 2.0)]) * 32767).astype("<i2").tobytes()
    model = tmp_path / "model.safetensors"
    runs["cnn"].model.save(model)
    code = "from barn_owl.cli.main import main; main()"
    where = ["--microphone", "-", "--rate-hz", str(RATE_HZ), "--threshold", "0.3", "-o", str(tmp_path / "l.csv")]
    arguments = ["listen", str(model), *where]
    with subprocess.Popen(
        [sys.executable, "-c", code, *arguments],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
    ) as child:
        child.stdin.write(samples)
        child.stdin.flush()
        said = child.stdout.readline()
        wait_until_done(child)
        child.send_signal(number)
        said += child.stdout.read()
        errors = child.stderr.read()
        assert child.wait(20) == 0, errors
    assert b"Detected" in said
    assert errors == b""
    assert "hum" in pd.read_csv(tmp_path / "l.csv")["label"].tolist()


def test_nothing_more_is_taken_once_it_is_to_stop():
    stop, number = threading.Event(), 0
    source = owl.audio.SimulatedMicrophone(itertools.repeat(np.zeros(RATE_HZ)), RATE_HZ, speed=INF)
    for number, _ in enumerate(incoming(source, stop=stop)):
        if number == 3:
            stop.set()
    assert number == 3
