"""Plays what is on the bench, where the machine has sound."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QBuffer, QByteArray, QIODevice, QObject, pyqtSignal

from combe.app.jobs import Errand
from combe.benching.sound import resampled, slowness_words, usual_slowness

LONGEST_S = 120.0
FULL = 32_767


class Sound(QObject):
    """One sound at a time, through the device the system prefers; ``told`` says what is played once it is."""

    told = pyqtSignal(str)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.sink: Any = None
        self._held: QBuffer | None = None
        self._wanted: object = None
        self._errand = Errand()
        self._errand.arrived.connect(self._start)

    def play(self, name: str, values: NDArray[np.float64], full: float, rate_hz: float) -> str:
        """Play values as soon as they have been made ready for the device; why nothing will be, in a sentence, or nothing."""
        self.stop()
        device, why = _device()
        if device is None:
            return why
        kind = device.preferredFormat()
        kind.setSampleFormat(type(kind).SampleFormat.Int16)
        slower = usual_slowness(rate_hz)
        words = slowness_words(slower)
        heard = values[: int(LONGEST_S * rate_hz / slower)]
        wanted = self._wanted = object()

        def work() -> object:
            sound = resampled(heard / full, rate_hz / slower, kind.sampleRate())
            raw = np.rint(np.clip(sound, -1.0, 1.0) * FULL).astype(np.int16)
            said = f"playing {name}: {len(raw) / kind.sampleRate():.2g} s" + (f", {words}" if words else "")
            return wanted, device, kind, np.repeat(raw, kind.channelCount()).tobytes(), said

        self._errand.send(work)
        return ""

    def _start(self, ready: tuple[object, Any, Any, bytes, str]) -> None:
        wanted, device, kind, raw, said = ready
        if wanted is not self._wanted:
            return  # stopped, or another is to be played
        self._held = QBuffer(self)
        self._held.setData(QByteArray(raw))
        self._held.open(QIODevice.OpenModeFlag.ReadOnly)
        self.sink = _sink(device, kind, self)
        self.sink.start(self._held)
        self.told.emit(said)

    def stop(self) -> str:
        """Silence."""
        self._wanted = None
        if self.sink is not None:
            self.sink.stop()
            self.sink.deleteLater()
            self.sink = None
        if self._held is not None:
            self._held.deleteLater()
            self._held = None
        return "silence"


def _device() -> tuple[Any, str]:
    """The device to play on, or None and why there is none."""
    try:
        # Imported late: it looks for a sound system, and isn't everywhere.
        from PyQt6.QtMultimedia import QMediaDevices
    except ImportError:
        return None, "Qt finds no sound system here; combe bench --sound writes sound files"
    device = QMediaDevices.defaultAudioOutput()
    if device.isNull():
        return None, "no device here plays sound; combe bench --sound writes sound files"
    return device, ""


def _sink(device: Any, kind: Any, parent: QObject) -> Any:
    from PyQt6.QtMultimedia import QAudioSink

    return QAudioSink(device, kind, parent)
