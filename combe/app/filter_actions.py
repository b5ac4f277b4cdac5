"""What can be done with the filters of a project: the menu, the keys, and what they ask."""

from __future__ import annotations

from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from PyQt6.QtCore import QPoint
from PyQt6.QtWidgets import QFileDialog, QInputDialog

from combe.app.widgets.path_bar import filter_menu
from combe.errors import CombeError
from combe.project import templates, tree_edits
from combe.project.document import INPUT
from combe.project.file import read_project
from combe.project.sources import mismatches, sentence
from combe.rounding.choices import Choices

if TYPE_CHECKING:
    from combe.app.window import MainWindow

KIND = "Projects (*.combe);;Requirements and others (*.json);;All files (*)"


class FilterActions:
    """Changes of the tree, on the filter that is open."""

    def __init__(self, window: MainWindow) -> None:
        self.window = window

    def add(self, source: str = INPUT) -> None:
        """A new filter fed by the input."""
        settings = self.window.settings
        usual = Choices(settings.coefficient_bits, output=settings.output_format)
        self.window.session.edit(tree_edits.add_filter(source, usual))

    def add_behind(self) -> None:
        """A new filter fed by the one that is open."""
        self.add(self.window.session.project.code_name)

    def duplicate(self) -> None:
        """A copy of it."""
        self.window.session.edit(tree_edits.duplicate_filter())

    def remove(self) -> None:
        """Take it away; undo brings it back."""
        self.window.session.edit(tree_edits.remove_filter())

    def move(self, by: int) -> None:
        """Earlier or later in the list."""
        self.window.session.edit(tree_edits.move_filter(by))

    def feed(self) -> None:
        """Ask where its samples are to come from."""
        project = self.window.session.project
        sources = [INPUT, *(member.code_name for member in project.members if member.code_name != project.code_name)]
        at = sources.index(project.source)
        name, accepted = QInputDialog.getItem(
            self.window, "Where samples come from", f"{project.code_name} takes its samples from", sources, at, False
        )
        if accepted:
            self.feed_from(name)

    def feed_from(self, name: str) -> None:
        """Take samples from the input or another filter."""
        self.window.session.edit(tree_edits.feed_from(name))

    def title(self) -> None:
        """Ask for another title of the filter."""
        asked = self.window.session.project.requirement
        name, accepted = QInputDialog.getText(self.window, "Rename the filter", "Title of this filter", text=asked.name)
        if accepted:
            self.window.session.edit(tree_edits.title_filter(name))

    def take(self) -> None:
        """Ask for another project and one of its filters."""
        path, _ = QFileDialog.getOpenFileName(self.window, "Take a filter from", self.window.dialogs._folder(), KIND)
        if path:
            self.take_from(Path(path))

    def take_from(self, path: Path, name: str = "") -> bool:
        """A filter of a project file; of several the user picks one."""
        try:
            other = read_project(path)
        except CombeError as error:
            self.window.dialogs.complain("The filter was not taken", error)
            return False
        names = [member.code_name for member in other.members]
        if not name and len(names) > 1:
            name, accepted = QInputDialog.getItem(self.window, "Take a filter", "Which of its filters", names, 0, False)
            if not accepted:
                return False
        return self.window.session.edit(tree_edits.take_filter(other, name or names[0]))

    def keep_template(self) -> None:
        """Ask for a name; the filter that is open becomes a template."""
        title = self.window.session.project.requirement.name
        name, accepted = QInputDialog.getText(self.window, "Keep as a template", "Name of the template", text=title)
        if accepted:
            self.keep_template_as(name)

    def keep_template_as(self, name: str) -> bool:
        """The filter that is open, without what was exported and proved, in the folder of templates."""
        try:
            path = templates.keep(self.window.session.project, name, self.templates)
        except CombeError as error:
            self.window.dialogs.complain("The template was not kept", error)
            return False
        self.window.tell(f"kept as {path.stem}")
        return True

    def add_template(self) -> None:
        """Ask for a template and add its filter."""
        names = templates.names(self.templates)
        if not names:
            self.window.tell("there are no templates yet; keep a filter as one first")
            return
        name, accepted = QInputDialog.getItem(self.window, "Add from a template", "Which template", names, 0, False)
        if accepted:
            self.take_from(templates.place(name, self.templates))

    @property
    def templates(self) -> Path:
        """Where templates are kept: beside the settings."""
        return self.window.settings.path.parent / "templates"

    def mend(self) -> None:
        """Let the open filter take samples as they come."""
        project = self.window.session.project
        if any(joint.name == project.code_name and joint.input for joint in mismatches(project.members)):
            self.window.session.edit(tree_edits.mend_joint(project.code_name))
        else:
            self.window.tell("samples come in the format this filter takes")

    def read_aloud(self) -> None:
        """The path as a sentence."""
        self.window.tell(sentence(self.window.session.project.members))

    def open_menu(self, place: int, where: QPoint) -> None:
        """What can be done with a filter of the path, where the mouse is."""
        self.window.session.turn_to(place)
        filter_menu(self.window, [(words, run) for words, _, run in self.entries()], where)

    def entries(self) -> list[tuple[str, str, object]]:
        """Words, keys and what is done; empty words part them."""
        return [
            ("Add a filter", "Ctrl+Shift+N", self.add), ("Add a filter behind this one", "", self.add_behind),
            ("Duplicate this filter", "Ctrl+Shift+J", self.duplicate), ("Take a filter from another project…", "", self.take),
            ("Add from a template…", "", self.add_template), ("Keep as a template…", "", self.keep_template), ("", "", None),
            ("Rename this filter…", "Shift+F2", self.title), ("Where samples come from…", "", self.feed),
            ("Take samples as they come", "", self.mend), ("", "", None),
            ("Move this filter earlier", "", partial(self.move, -1)), ("Move this filter later", "", partial(self.move, 1)),
            ("Remove this filter", "", self.remove),
        ]  # fmt: skip
