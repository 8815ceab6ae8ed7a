"""Recording from a microphone, or from a simulated one that plays what it is given."""

import time
from collections.abc import Iterator
from typing import Protocol

import numpy as np

from barn_owl.errors import AudioError
from barn_owl.wording import how_to_install

SLEPT_S = 0.05
"""Wait between two looks at a queue that is empty: far below the length of any block that comes."""


class Microphone(Protocol):
    """What takes are recorded from."""

    rate_hz: int

    def record(self, seconds: float) -> np.ndarray:
        """Record mono samples, float32, shape ``(samples,)``; raises AudioError when it cannot."""
        ...


class SimulatedMicrophone:
    """Plays blocks of samples over and over instead of listening; time passes as fast as is asked.

    speed : how much faster than in real time; infinite for at once.
    """

    def __init__(self, blocks: Iterator[np.ndarray], rate_hz: int, *, speed: float = 1.0) -> None:
        if not speed > 0:
            raise AudioError(f"the speed of a simulated microphone must be above 0, got {speed:g}")
        self.rate_hz, self._speed = rate_hz, speed
        self._blocks, self._kept = blocks, np.empty(0, dtype=np.float32)

    def record(self, seconds: float) -> np.ndarray:
        """Return the next stretch of what is played; silence when the blocks have come to an end."""
        wanted = round(seconds * self.rate_hz)
        while len(self._kept) < wanted:
            block = next(self._blocks, None)
            if block is None:
                block = np.zeros(wanted - len(self._kept), dtype=np.float32)
            self._kept = np.concatenate([self._kept, block.astype(np.float32)])
        taken, self._kept = self._kept[:wanted], self._kept[wanted:]
        until = time.monotonic() + seconds / self._speed
        while (left := until - time.monotonic()) > 0:
            time.sleep(min(left, SLEPT_S))
        return taken


class SoundCard:
    """A microphone of this machine, by the optional package sounddevice."""

    def __init__(self, device: str | None = None, rate_hz: int = 44_100) -> None:
        try:
            import sounddevice
        except (ImportError, OSError) as error:  # OSError: the package is there, the system's library is not
            raise AudioError(
                f"recording needs the package sounddevice: {how_to_install('microphone')} ({error})"
            ) from error
        self.rate_hz, self._device, self._sounddevice = rate_hz, device, sounddevice
        self._check()

    def _check(self) -> None:
        try:
            self._sounddevice.check_input_settings(device=self._device, channels=1, samplerate=self.rate_hz)
        except (ValueError, self._sounddevice.PortAudioError) as error:
            raise AudioError(f"the microphone {self._device or 'by default'} cannot be used: {error}") from error

    def record(self, seconds: float) -> np.ndarray:
        """Record from the sound card."""
        try:
            taken = self._sounddevice.rec(
                round(seconds * self.rate_hz), samplerate=self.rate_hz, channels=1, dtype="float32",
                device=self._device, blocking=True,
            )  # fmt: skip
        except self._sounddevice.PortAudioError as error:
            raise AudioError(f"recording failed: {error}") from error
        return np.asarray(taken)[:, 0]
