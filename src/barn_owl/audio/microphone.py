"""Live sources: microphones, pipes, and simulated microphones."""

import time
from collections.abc import Callable, Iterable
from typing import Any, BinaryIO, Protocol

import numpy as np

from barn_owl.audio.raw import stream_raw
from barn_owl.audio.samples import as_mono
from barn_owl.audio.sources import Inlet
from barn_owl.errors import AudioError
from barn_owl.wording import how_to_install

SLEPT_S = 0.05
"""Wait between two looks at a queue that is empty: far below the length of any block that comes."""
BLOCK_S = 0.1
"""Sound that a microphone delivers at a time."""
GONE_S = 3.0
"""Time without samples after which a sound card counts as unplugged; many drivers report nothing."""
COMMON_RATE_HZ = 44_100


class Microphone(Protocol):
    """Source of recorded takes."""

    rate_hz: int

    def record(self, seconds: float) -> np.ndarray:
        """Record mono samples, float32, shape ``(samples,)``; raises AudioError when it cannot."""
        ...


class SimulatedMicrophone:
    """A simulated microphone that plays blocks of samples at the given speed.

    Parameters
    ----------
    blocks : Iterable[np.ndarray] | np.ndarray
        All samples, or blocks of them; types and shapes as for `barn_owl.FrontEnd.frames`.
    rate_hz : int
        Sample rate in Hz.
    speed : float
        Times real time; infinite for as fast as the listener takes samples. Above real time the source waits
        for the listener and loses nothing; at real time a listener that is too slow loses samples, as with a
        sound card.
    away : tuple[int, float]
        How often it goes away when listened to, each time after this many seconds of sound.
    """

    comes_back = True

    def __init__(
        self,
        blocks: Iterable[np.ndarray] | np.ndarray,
        rate_hz: int,
        *,
        speed: float = 1.0,
        away: tuple[int, float] = (0, 0.0),
    ) -> None:
        if not speed > 0:
            raise AudioError(f"the speed of a simulated microphone must be above 0, got {speed:g}")
        self.rate_hz, self._speed = rate_hz, speed
        blocks = [blocks] if isinstance(blocks, np.ndarray) else blocks
        self._blocks, self._kept = map(as_mono, blocks), np.empty(0, dtype=np.float32)
        self._aways, self._away_s = away

    def record(self, seconds: float) -> np.ndarray:
        """Return the next samples; silence after the last block.

        Parameters
        ----------
        seconds : float
            Length in seconds.
        """
        wanted = round(seconds * self.rate_hz)
        while len(self._kept) < wanted:
            block = next(self._blocks, None)
            if block is None:
                block = np.zeros(wanted - len(self._kept), dtype=np.float32)
            self._kept = np.concatenate([self._kept, block])
        taken, self._kept = self._kept[:wanted], self._kept[wanted:]
        self._wait(time.monotonic() + seconds / self._speed)
        return taken

    @staticmethod
    def _wait(until: float) -> None:
        while (left := until - time.monotonic()) > 0:
            time.sleep(min(left, SLEPT_S))

    def deliver(self, inlet: Inlet) -> None:
        """Deliver the blocks in time, until the last.

        Parameters
        ----------
        inlet : Inlet
            Receives the blocks of samples.
        """
        size, begin, played = max(1, round(BLOCK_S * self.rate_hz)), time.monotonic(), 0
        while not inlet.closed:
            if not len(self._kept):
                block = next(self._blocks, None)
                if block is None:
                    return
                self._kept = block
            part, self._kept = self._kept[:size], self._kept[size:]
            played += len(part)
            if np.isfinite(self._speed):
                self._wait(begin + played / self.rate_hz / self._speed)
            if self._speed > 1:
                inlet.put_blocking(part)
            else:
                inlet.put(part)
            if self._aways and played >= self._away_s * self.rate_hz:
                self._aways -= 1
                raise AudioError("the simulated microphone went away")


class RawPipe:
    """A pipe of raw samples without a header; see `stream_raw` for their type. It can be read once.

    Parameters
    ----------
    stream : <class BinaryIO>
        Binary stream of interleaved little-endian samples.
    rate_hz : int
        Sample rate in Hz.
    sample_type : str
        Sample type.
    channels : int
        Number of channels.
    """

    comes_back = False

    def __init__(self, stream: BinaryIO, rate_hz: int, *, sample_type: str = "int16", channels: int = 1) -> None:
        self.rate_hz = rate_hz
        self._blocks = stream_raw(stream, from_hz=rate_hz, sample_type=sample_type, channels=channels)

    def deliver(self, inlet: Inlet) -> None:
        """Pass on samples until the pipe ends; the writer blocks when the buffer is full.

        Parameters
        ----------
        inlet : Inlet
            Receives the blocks of samples.
        """
        for block in self._blocks:
            inlet.put_blocking(block)
            if inlet.closed:
                return


class SoundCard:
    """A microphone of this machine; needs the optional package sounddevice.

    Parameters
    ----------
    device : str | None
        Name or number of the input device. None: that of the system.
    rate_hz : int | None
        Sample rate in Hz.
    """

    comes_back = True

    def __init__(self, device: str | None = None, rate_hz: int | None = None) -> None:
        try:
            import sounddevice
        except (ImportError, OSError) as error:  # OSError: the package is there, the system's library is not
            raise AudioError(
                f"recording needs the package sounddevice: {how_to_install('microphone')} ({error})"
            ) from error
        self._device, self._sounddevice = device, sounddevice
        self.rate_hz = self._usable(rate_hz)

    def _usable(self, rate_hz: int | None) -> int:
        """Return the requested rate; else the usual rate, or the preferred rate of the device."""
        try:
            return self._checked(rate_hz or COMMON_RATE_HZ)
        except (ValueError, self._sounddevice.PortAudioError) as error:
            own = self._preferred()
            if rate_hz is None and own not in (None, COMMON_RATE_HZ):
                return int(own)
            hint = f"; it offers {own} Hz" if own and own != rate_hz else ""
            raise AudioError(
                f"the microphone {self._device or 'by default'} cannot be used: {error}{hint}"
            ) from error

    def _checked(self, rate_hz: int) -> int:
        self._sounddevice.check_input_settings(device=self._device, channels=1, samplerate=rate_hz)
        return rate_hz

    def _preferred(self) -> int | None:
        """Return the preferred rate of the device, if there is such a device and it can record at that rate."""
        try:
            return self._checked(int(self._sounddevice.query_devices(self._device, "input")["default_samplerate"]))
        except (ValueError, self._sounddevice.PortAudioError):
            return None

    def record(self, seconds: float) -> np.ndarray:
        """Record from the sound card.

        Parameters
        ----------
        seconds : float
            Length in seconds.
        """
        try:
            taken = self._sounddevice.rec(
                round(seconds * self.rate_hz), samplerate=self.rate_hz, channels=1, dtype="float32",
                device=self._device, blocking=True,
            )  # fmt: skip
        except self._sounddevice.PortAudioError as error:
            raise AudioError(f"recording failed: {error}") from error
        return np.asarray(taken)[:, 0]

    def deliver(self, inlet: Inlet) -> None:
        """Listen until `inlet` is closed; raises AudioError when the card goes away or falls silent.

        Parameters
        ----------
        inlet : Inlet
            Receives the blocks of samples.
        """
        received = [time.monotonic()]
        try:
            with self._sounddevice.InputStream(
                samplerate=self.rate_hz, channels=1, dtype="float32", device=self._device,
                blocksize=round(BLOCK_S * self.rate_hz), callback=self._taker(inlet, received),
            ) as stream:  # fmt: skip
                while not inlet.closed:
                    time.sleep(SLEPT_S)
                    if not stream.active or time.monotonic() - received[0] > GONE_S:
                        raise AudioError("the microphone delivers nothing any more")
        except AudioError:
            raise
        except (ValueError, self._sounddevice.PortAudioError) as error:
            raise AudioError(f"the microphone cannot be listened to: {error}") from error

    @staticmethod
    def _taker(inlet: Inlet, received: list[float]) -> Callable[..., None]:
        def take(samples: np.ndarray, _frames: int, _time: Any, status: Any) -> None:
            received[0] = time.monotonic()
            if status and status.input_overflow:
                inlet.lose(0.0, "the sound card lost some sound, it does not say how much")
            inlet.put(np.array(samples[:, 0], dtype=np.float32))

        return take
