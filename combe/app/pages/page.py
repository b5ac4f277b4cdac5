"""What every page of the register is: a widget that shows a scene and emits what the hand did."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from msgspec import Struct
from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QApplication, QWidget

from combe.app.plots.axes import Plot
from combe.app.plots.curve import Curve
from combe.filters import Filter
from combe.ledger import Line
from combe.project.document import Project
from combe.project.history import Step
from combe.project.results import Results
from combe.requirement import Requirement


class Scene(Struct, frozen=True):
    """Everything there is to be shown: the project, what follows from it, and how the window looks at it.

    ``lines`` are the ledger's lines of the open step, ``close`` the places of those that are nearly missed, ``dots`` those
    measured with tones; ``folder`` is where the project's file lies; ``steps`` what undo goes through.
    """

    project: Project
    results: Results
    curves: tuple[Curve, ...] = ()
    lines: tuple[Line, ...] = ()
    close: frozenset[int] = frozenset()
    dots: tuple[Line, ...] = ()
    counted: str = "hz"
    folder: Path | None = None
    steps: tuple[Step, ...] = ()

    @property
    def requirement(self) -> Requirement:
        """What is asked."""
        return self.project.requirement

    @property
    def chosen(self) -> Filter | None:
        """The exact filter."""
        return self.results.ideal.design.filter if self.results.ideal is not None else None

    @property
    def levels(self) -> Requirement | None:
        """The bands the filter has made for itself out of levels and cut-offs."""
        return self.results.ideal.design.levels if self.results.ideal is not None else None

    def trouble(self, name: str) -> str:
        """Why a result can't be had, in words; empty if it can."""
        error = self.results.troubles.get(name)
        return error.sentence() if error is not None else ""


class Page(QWidget):
    """Shows scenes; knows nothing of its neighbours, of files or of the session.

    ``edited`` carries an edit, ``dragged`` a function from a project to an edit while the hand holds something,
    ``released`` that it let go; ``told`` a remark; ``asked`` the name of something only the session can do, and its detail.
    """

    edited = pyqtSignal(object)
    dragged = pyqtSignal(object)
    released = pyqtSignal()
    told = pyqtSignal(str)
    asked = pyqtSignal(str, object)

    def __init__(self) -> None:
        super().__init__()
        self.extra: QWidget | None = None

    def show_scene(self, scene: Scene) -> None:
        """Show another scene. Called whenever one of its results or the project is another, while the page is open."""
        self.update()

    def modes(self) -> Sequence[str]:
        """Ways of looking at it, the one in force told by ``mode``."""
        return ()

    @property
    def mode(self) -> str:
        """The way of looking in force."""
        return next(iter(self.modes()), "")

    def set_mode(self, mode: str) -> None:
        """Look at it another way."""

    def legend(self) -> Sequence[Curve] | None:
        """What its strokes are called; None where they are the window's own curves, empty where it has none."""
        return None

    @property
    def is_working(self) -> bool:
        """Whether it works something out aside that isn't shown yet."""
        return False

    @property
    def plot(self) -> Plot | None:
        """The plot that is copied and sent home, if there is one."""
        return None

    def plots(self) -> Sequence[Plot]:
        """All of its plots, seen or not."""
        return self.findChildren(Plot)

    def copy(self) -> str:
        """Put what is shown on the clipboard; what to say of it."""
        plot = self.plot
        if plot is not None:
            plot.copy_picture()
            return "the plot is on the clipboard"
        clipboard = QApplication.clipboard()
        if clipboard is not None:
            clipboard.setPixmap(self.grab())
        return "the picture is on the clipboard"

    def clear_cursors(self) -> None:
        """Take cursors away, where there are any."""

    def align(self) -> None:
        """Lay what comes out over what goes in, or no longer, where that is shown."""

    def go_home(self) -> None:
        """Show the whole of it again."""
        if self.plot is not None:
            self.plot.go_home()

    def set_log(self, is_log: bool) -> None:
        """A logarithmic frequency axis, where there is one."""

    def dress(self) -> None:
        """Take on the theme's colours."""
        self.update()
