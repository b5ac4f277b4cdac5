"""Undo and redo: a stack of project values."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from msgspec import Struct

from combe.project.document import Project

MOST_STEPS = 500
"""Steps that can be taken back; older ones are let go, so that a long day needs no more memory than a short one."""
FIRST = "as it was opened"


class Value(Struct, frozen=True):
    """A project as it stood: by which change it came to be so, and how its ledger stood then."""

    project: Project
    what: str = FIRST
    standing: str = ""


class Step(Struct, frozen=True):
    """One step as people see it. ``is_ahead``: it was taken back."""

    what: str
    standing: str
    is_now: bool = False
    is_ahead: bool = False


class History:
    """Values before and after the current one.

    A change with the same ``gesture`` as the one before it replaces it, so that a whole drag is one step.
    """

    def __init__(self, project: Project) -> None:
        self._now = Value(project)
        self._before: list[Value] = []
        self._after: list[Value] = []
        self._gesture = ""

    @property
    def current(self) -> Project:
        """The value in force."""
        return self._now.project

    def change(self, project: Project, what: str, gesture: str = "") -> bool:
        """Make ``project`` the current value; ``what`` names the change for the menu. False if nothing changed."""
        if project == self.current:
            self._now = Value(project, self._now.what, self._now.standing)
            return False
        if not (gesture and gesture == self._gesture):
            self._before.append(self._now)
            del self._before[:-MOST_STEPS]
        self._gesture = gesture
        self._after.clear()
        self._now = Value(project, what)
        return True

    def note(self, make: Callable[[Project], Project]) -> None:
        """What follows the open filter whichever way undo goes: every value takes it on."""
        name, place, count = self.current.code_name, self.current.place, len(self.current.members)

        def noted(project: Project) -> Project:
            """With the note made of the same filter, whichever is open and whatever it was called."""
            names = [member.code_name for member in project.members]
            if name in names:
                return make(project.opened(names.index(name))).opened(project.place)
            return make(project.opened(place)).opened(project.place) if len(names) == count else project

        self.all_changed(noted)

    def all_changed(self, make: Callable[[Project], Project]) -> None:
        """Every value told otherwise, without a step."""

        def made(value: Value) -> Value:
            return Value(make(value.project), value.what, value.standing)

        self._now = made(self._now)
        self._before = [made(value) for value in self._before]
        self._after = [made(value) for value in self._after]

    def open(self, place: int) -> bool:
        """Look at another filter of the project: no change of it, and no step. False if it is open already."""
        if place == self.current.place:
            return False
        self._now = Value(self.current.opened(place), self._now.what, self._now.standing)
        self._gesture = ""
        return True

    def stand(self, words: str) -> None:
        """How the ledger stands with the current value."""
        if words != self._now.standing:
            self._now = Value(self.current, self._now.what, words)

    def end_gesture(self) -> None:
        """The next change is a step of its own."""
        self._gesture = ""

    @property
    def steps(self) -> tuple[Step, ...]:
        """All of them, the first first."""
        before = [Step(value.what, value.standing) for value in self._before]
        ahead = [Step(value.what, value.standing, is_ahead=True) for value in reversed(self._after)]
        return (*before, Step(self._now.what, self._now.standing, is_now=True), *ahead)

    def go_to(self, step: int) -> Project:
        """Return to a step by its place among ``steps``."""
        while step < len(self._before):
            self.undo()
        while step > len(self._before) and self._after:
            self.redo()
        return self.current

    @property
    def values(self) -> tuple[Value, ...]:
        """All up to the current one, which is the last."""
        return (*self._before, self._now)

    def recall(self, values: Sequence[Value]) -> None:
        """Steps from an earlier day, the last of which is the project as it was opened: they stand before all of today's."""
        if not values:
            return
        first = self._before[0] if self._before else self._now
        opened = Value(first.project, values[-1].what, first.standing or values[-1].standing)
        if self._before:
            self._before[0] = opened
        else:
            self._now = opened
        self._before = [*values[:-1], *self._before][-MOST_STEPS:]

    @property
    def names(self) -> tuple[str, ...]:
        """What undo would take back, the last change last."""
        return tuple(value.what for value in (*self._before, self._now))[1:]

    @property
    def undo_name(self) -> str:
        """What undo would take back; empty if nothing."""
        return self._now.what if self._before else ""

    @property
    def redo_name(self) -> str:
        """What redo would do again; empty if nothing."""
        return self._after[-1].what if self._after else ""

    def undo(self) -> Project:
        """Step back."""
        if self._before:
            self._after.append(self._now)
            self._now = self._before.pop()
        self._gesture = ""
        return self.current

    def redo(self) -> Project:
        """Step forward again."""
        if self._after:
            self._before.append(self._now)
            self._now = self._after.pop()
        self._gesture = ""
        return self.current
