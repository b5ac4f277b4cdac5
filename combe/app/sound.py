"""Plays what is on the bench, where the machine has sound."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QBuffer, QByteArray, QIODevice, QObject

from combe.benching.sound import resampled, slowness_words, usual_slowness

LONGEST_S = 120.0
FULL = 32_767


class Sound(QObject):
    """One sound at a time, through the device the system prefers."""

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.sink: Any = None
        self._held: QBuffer | None = None

    def play(self, name: str, values: NDArray[np.float64], rate_hz: float) -> str:
        """Play values of full scale 1; what is played, or why nothing is, in a sentence."""
        self.stop()
        device, why = _device()
        if device is None:
            return why
        kind = device.preferredFormat()
        kind.setSampleFormat(type(kind).SampleFormat.Int16)
        slower = usual_slowness(rate_hz)
        heard = values[: int(LONGEST_S * rate_hz / slower)]
        sound = resampled(heard, rate_hz / slower, kind.sampleRate())
        raw = np.rint(np.clip(sound, -1.0, 1.0) * FULL).astype(np.int16)
        self._held = QBuffer(self)
        self._held.setData(QByteArray(np.repeat(raw, kind.channelCount()).tobytes()))
        self._held.open(QIODevice.OpenModeFlag.ReadOnly)
        self.sink = _sink(device, kind, self)
        self.sink.start(self._held)
        words = slowness_words(slower)
        return f"playing {name}: {len(raw) / kind.sampleRate():.2g} s" + (f", {words}" if words else "")

    def stop(self) -> str:
        """Silence."""
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
