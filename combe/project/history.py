"""Undo and redo: a stack of project values."""

from __future__ import annotations

from collections.abc import Callable

from combe.project.document import Project

MOST_STEPS = 500
"""Steps that can be taken back; older ones are let go, so that a long day needs no more memory than a short one."""


class History:
    """Values before and after the current one.

    A change with the same ``gesture`` as the one before it replaces it, so that a whole drag is one step.
    """

    def __init__(self, project: Project) -> None:
        self.current = project
        self._before: list[tuple[Project, str]] = []
        self._after: list[tuple[Project, str]] = []
        self._gesture = ""

    def change(self, project: Project, what: str, gesture: str = "") -> bool:
        """Make ``project`` the current value; ``what`` names the change for the menu. False if nothing changed."""
        if project == self.current:
            self.current = project
            return False
        if not (gesture and gesture == self._gesture):
            self._before.append((self.current, what))
            del self._before[:-MOST_STEPS]
        self._gesture = gesture
        self._after.clear()
        self.current = project
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

        self._before = [(noted(project), what) for project, what in self._before]
        self._after = [(noted(project), what) for project, what in self._after]
        self.current = make(self.current)

    def all_changed(self, make: Callable[[Project], Project]) -> None:
        """Every value told otherwise, without a step."""
        self.current = make(self.current)
        self._before = [(make(project), what) for project, what in self._before]
        self._after = [(make(project), what) for project, what in self._after]

    def open(self, place: int) -> bool:
        """Look at another filter of the project: no change of it, and no step. False if it is open already."""
        if place == self.current.place:
            return False
        self.current = self.current.opened(place)
        self._gesture = ""
        return True

    def end_gesture(self) -> None:
        """The next change is a step of its own."""
        self._gesture = ""

    @property
    def names(self) -> tuple[str, ...]:
        """What undo would take back, the last change last."""
        return tuple(what for _, what in self._before)

    @property
    def undo_name(self) -> str:
        """What undo would take back; empty if nothing."""
        return self._before[-1][1] if self._before else ""

    @property
    def redo_name(self) -> str:
        """What redo would do again; empty if nothing."""
        return self._after[-1][1] if self._after else ""

    def undo(self) -> Project:
        """Step back."""
        if self._before:
            project, what = self._before.pop()
            self._after.append((self.current, what))
            self.current = project
        self._gesture = ""
        return self.current

    def redo(self) -> Project:
        """Step forward again."""
        if self._after:
            project, what = self._after.pop()
            self._before.append((self.current, what))
            self.current = project
        self._gesture = ""
        return self.current
