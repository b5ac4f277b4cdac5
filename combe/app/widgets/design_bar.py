"""How to design, as a sentence: the method, its order, what it aims at, and where spare room goes."""

from __future__ import annotations

from functools import partial

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QPushButton, QWidget

from combe.app.widgets.figure import Figure
from combe.app.widgets.flow import Flow
from combe.app.widgets.parts import Choice, label
from combe.designing.classic.plan import shape_of
from combe.designing.methods import CUTOFF, METHODS, Method, method_named
from combe.designing.task import SPARE, DesignChoice, Setting
from combe.errors import DesignError
from combe.project.edits import with_cutoffs, with_order, with_setting, with_spare
from combe.requirement import Requirement
from combe.requirement.quantities import frequency_text, parse_frequency, short

FREE_ORDER, LIMITS = "least order", "the limits"
SPARE_WORDS = {"shared": "shared out", "stopband": "into the stopbands", "passband": "into the passbands"}
BY_LEVELS = ("equiripple", "constrained-least-squares")
CLASSICS = ("butterworth", "chebyshev", "inverse-chebyshev", "elliptic", "bessel")


class DesignBar(QWidget):
    """``chosen`` carries the design choice the hand made, ``complained`` what is wrong with a figure typed."""

    chosen = pyqtSignal(object)
    complained = pyqtSignal(str)
    holding_wanted = pyqtSignal()

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.choice = DesignChoice()
        self.requirement: Requirement | None = None
        self._flow = Flow(self, 4)
        self.method = Choice()
        self.method.setAccessibleName("method")
        self.method.addItems([method.name for method in METHODS])
        self.method.activated.connect(self._on_method)
        self._flow.addWidget(self.method)
        self._of = label("of")
        self._flow.addWidget(self._of)
        self.order = Figure(_checked_order, "order")
        self.order.typed.connect(self._on_order)
        self._flow.addWidget(self.order)
        self.least = QPushButton(FREE_ORDER)
        self.least.setToolTip("back to the least order that keeps the limits")
        self.least.setObjectName("quiet")
        self.least.clicked.connect(lambda: self.chosen.emit(with_order(self.choice, None)))
        self._flow.addWidget(self.least)
        self.holding = QPushButton("that holds as integers")
        self.holding.setToolTip("the least order that still keeps every limit once its coefficients are rounded")
        self.holding.setObjectName("quiet")
        self.holding.clicked.connect(self.holding_wanted)
        self._flow.addWidget(self.holding)
        self._aims = label("by")
        self._flow.addWidget(self._aims)
        self.cutoff = Figure(self._check_cutoffs, "cut-off")
        self.cutoff.setToolTip(
            "cut-off: a frequency (two for a band) to aim at instead of the limits; empty for the limits"
        )
        self.cutoff.typed.connect(self._on_cutoff)
        self._flow.addWidget(self.cutoff)
        self._spare_word = label("spare room")
        self._flow.addWidget(self._spare_word)
        self.spare = Choice()
        self.spare.setAccessibleName("where spare room goes")
        self.spare.addItems(list(SPARE_WORDS.values()))
        self.spare.activated.connect(self._on_spare)
        self._flow.addWidget(self.spare)
        self.settings: dict[str, Figure] = {}
        self._setting_words: list[QWidget] = []
        for figure in (self.order, self.cutoff):
            figure.complained.connect(self.complained)

    def show_choice(self, choice: DesignChoice, requirement: Requirement, order: int | None, counted: str) -> None:
        """The sentence for a choice; ``order`` is what the search arrived at."""
        changed = choice.method != self.choice.method or set(self.settings) != {
            setting.name for setting in method_named(choice.method).settings
        }
        self.choice, self.requirement = choice, requirement
        method = method_named(choice.method)
        self.method.setCurrentText(choice.method)
        found = "" if order is None else f" ({order})"
        bits = choice.holds_with_bits
        held = "" if bits is None else f" with {bits}-bit integers"
        self.order.show_text(FREE_ORDER + found + held if choice.order is None else f"order {choice.order}")
        for part in (self._of, self.order):
            part.setVisible(choice.method != "given")
        by_limits = not choice.cutoffs_hz and "requirement" in method.asks
        self.least.setVisible(by_limits and (choice.order is not None or bits is not None))
        self.holding.setVisible(by_limits and bits is None)
        takes = CUTOFF in method.asks
        for part in (self._aims, self.cutoff):
            part.setVisible(takes)
        rate = requirement.sample_rate_hz
        words = " and ".join(frequency_text(hz, rate, counted) for hz in choice.cutoffs_hz)
        self.cutoff.show_text(words or LIMITS)
        is_classic = choice.method in CLASSICS and not choice.cutoffs_hz
        for widget in (self._spare_word, self.spare):
            widget.setVisible(is_classic)
        self.spare.setCurrentIndex(SPARE.index(choice.spare))
        if changed:
            self._rebuild(method)
        for setting in method.settings:
            self.settings[setting.name].show_text(_setting_text(setting, choice))
        for shown in self._setting_words:
            shown.setVisible(choice.method not in (*CLASSICS, *BY_LEVELS) or bool(choice.cutoffs_hz))
        self.updateGeometry()

    def _rebuild(self, method: Method) -> None:
        """One figure for each setting of the method."""
        for widget in self._setting_words:
            self._flow.removeWidget(widget)
            widget.hide()
            widget.deleteLater()
        self._setting_words, self.settings = [], {}
        for setting in method.settings:
            words = label(setting.name.replace("_hz", "").replace("_db", "").replace("_", " "), "muted")
            words.setToolTip(setting.summary)
            figure = Figure(partial(self._check_setting, setting), setting.name)
            figure.setToolTip(f"{setting.summary}; empty to leave it to the method")
            figure.typed.connect(partial(self._on_setting, setting))
            figure.complained.connect(self.complained)
            self.settings[setting.name] = figure
            for widget in (words, figure):
                self._flow.addWidget(widget)
                self._setting_words.append(widget)

    def _on_method(self, index: int) -> None:
        name = self.method.itemText(index)
        if name == self.choice.method:
            return
        method = method_named(name)
        cutoffs = self.choice.cutoffs_hz if CUTOFF in method.asks else ()
        order = self.choice.order if cutoffs or "requirement" not in method.asks else None
        given = self.choice.given
        self.chosen.emit(DesignChoice(name, order, 1, cutoffs, self.choice.shape if cutoffs else "", given=given))

    def _on_order(self, text: str) -> None:
        self.chosen.emit(with_order(self.choice, _order_in(text)))

    def _on_cutoff(self, text: str) -> None:
        self.chosen.emit(with_cutoffs(self.choice, self._cutoffs_in(text)))

    def _on_spare(self, index: int) -> None:
        self.chosen.emit(with_spare(self.choice, SPARE[index]))

    def _on_setting(self, setting: Setting, text: str) -> None:
        self.chosen.emit(with_setting(self.choice, setting.name, self._value_in(setting, text)))

    def _check_cutoffs(self, text: str) -> None:
        self._cutoffs_in(text)

    def _cutoffs_in(self, text: str) -> tuple[float, ...]:
        """One or two frequencies; none for the limits."""
        if text.strip().lower() in ("", LIMITS, "limits"):
            return ()
        assert self.requirement is not None
        rate = self.requirement.sample_rate_hz
        parts = [
            part
            for part in text.replace(" and ", ",").replace(" to ", ",").replace(";", ",").split(",")
            if part.strip()
        ]
        cutoffs = tuple(sorted(parse_frequency(part, rate) for part in parts))
        shape = shape_of(self.requirement)
        wanted = {"lowpass": 1, "highpass": 1, "bandpass": 2, "bandstop": 2}.get(shape)
        if wanted is not None and len(cutoffs) != wanted:
            raise DesignError(f"a {shape} has {'one cut-off' if wanted == 1 else 'two cut-offs'}")
        if not all(0 < cutoff < rate / 2 for cutoff in cutoffs):
            raise DesignError(
                "a cut-off lies between 0 and half the sample rate", "", f"{frequency_text(rate / 2)} here"
            )
        return cutoffs

    def _check_setting(self, setting: Setting, text: str) -> None:
        setting.checked(self._value_in(setting, text))

    def _value_in(self, setting: Setting, text: str) -> float | None:
        if text.strip().lower() in ("", "auto"):
            return None
        assert self.requirement is not None
        if setting.unit == "Hz":
            return parse_frequency(text, self.requirement.sample_rate_hz)
        try:
            return float(text.split()[0])
        except ValueError:
            raise DesignError(f'"{text.strip()}" is not a number', "", "type one, or nothing") from None


def _setting_text(setting: Setting, choice: DesignChoice) -> str:
    value = choice.setting(setting.name)
    value = setting.default if value is None else value
    if value is None:
        return "auto"
    return frequency_text(value) if setting.unit == "Hz" else f"{short(value, 5)} {setting.unit}".strip()


def _order_in(text: str) -> int | None:
    """An order from ``8`` or ``order 8``; None from ``least`` or nothing."""
    word = text.strip().lower().removeprefix("order").strip()
    if word in ("", "least", "auto", "shortest") or word.startswith("least order"):
        return None
    if not word.isdigit():
        raise DesignError(f'"{text.strip()}" is not an order', "", 'type a number, or "least"')
    return int(word)


def _checked_order(text: str) -> None:
    _order_in(text)
