"""Everything that asks: files, folders, whether to leave."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from PyQt6.QtWidgets import QFileDialog, QInputDialog, QMessageBox

from combe import __version__
from combe.designing.given import Given
from combe.errors import CombeError
from combe.project import edits
from combe.project.demo import fresh_project, recorder_project
from combe.project.file import read_project
from combe.project.folders import told_beside
from combe.project.tree_edits import start_with
from combe.project.unsaved import Copy, drop
from combe.rounding.choices import Choices

if TYPE_CHECKING:
    from combe.app.preferences import Preferences
    from combe.app.recovery import Recovery
    from combe.app.window import MainWindow

KIND = "Combe projects (*.combe);;Requirements (*.json);;All files (*)"


class Dialogs:
    """Asks, then tells the session; a refusal leaves everything as it is."""

    def __init__(self, window: MainWindow) -> None:
        self.window = window

    def new(self) -> None:
        """A fresh project."""
        if self.may_leave():
            settings = self.window.settings
            usual = Choices(settings.coefficient_bits, "", settings.input_format, settings.output_format)
            self.window.replace_project(start_with(usual).make(fresh_project()), None)

    def open_demo(self) -> None:
        """The demo project."""
        if self.may_leave():
            self.window.replace_project(recorder_project(), None)

    def open(self) -> None:
        """A project or requirement from a file."""
        path, _ = QFileDialog.getOpenFileName(self.window, "Open", self._folder(), KIND)
        if path:
            self.open_path(Path(path))

    def open_path(self, path: Path) -> bool:
        """Open a file; the current project stays if it can't be read."""
        try:
            project = read_project(path)
        except CombeError as error:
            self.complain("This file was not opened", error)
            return False
        if not self.may_leave():
            return False
        self.window.replace_project(project, path if path.suffix == ".combe" else None)
        self.window.settings.used(path)
        return True

    def save(self) -> bool:
        """Save where the project came from, or ask where."""
        if self.window.session.path is None:
            return self.save_as()
        return self.save_path(self.window.session.path)

    def save_as(self) -> bool:
        """Ask where, then save."""
        name = self.window.session.project.name.replace("/", "-")
        path, _ = QFileDialog.getSaveFileName(
            self.window, "Save as", f"{self._folder()}/{name}.combe", KIND.split(";;")[0]
        )
        if not path:
            return False
        if path.endswith(".combe"):
            return self.save_path(Path(path))
        # The chooser asked about the name without its ending.
        full = Path(path + ".combe")
        return (not full.exists() or self._may_replace(full)) and self.save_path(full)

    def _may_replace(self, path: Path) -> bool:
        buttons = QMessageBox.StandardButton
        words = f"{path.name} is there already. Replace it?"
        answer = QMessageBox.question(self.window, "Save as", words, buttons.Yes | buttons.No, buttons.No)
        return answer == buttons.Yes

    def ask_about_file(self, kind: str) -> None:
        """The project's file was changed or removed by someone else: the bar asks."""
        path = self.window.session.path
        if path is not None:
            self.window.file_bar.ask(kind, path.name)

    def tell_shared(self) -> None:
        """Another window has the file open."""
        path = self.window.session.path
        if path is not None:
            self.window.tell(f"{path.name} is open in another window, too: whoever saves is asked first")

    def answer_file(self, answer: str) -> bool:
        """What is to happen with a file that is another than it was: ``mine``, ``theirs`` or ``beside``."""
        window = self.window
        path, is_gone = window.session.path, window.watch.state == "deleted"
        if path is None:
            return False
        if answer == "theirs":
            try:
                window.replace_project(read_project(path), path)
            except CombeError as error:
                self.complain("What is there now was not taken", error)
                window.file_bar.ask("changed", path.name)
                return False
            return True
        if answer == "beside":
            return self.save_as()
        window.watch.accept()
        return self.save_path(path) if is_gone else True

    def _may_write_over(self, path: Path) -> bool:
        """Whether a file may be written: it is what this window knows, or the user has said so."""
        window = self.window
        if path != window.session.path or window.watch.state != "changed":
            return True
        box = QMessageBox(window)
        box.setWindowTitle("The file was changed")
        box.setText(f"{path.name} was changed on disk since it was read here.")
        role = QMessageBox.ButtonRole
        mine, theirs = (
            box.addButton("Save mine over it", role.AcceptRole),
            box.addButton("Take theirs", role.ActionRole),
        )
        beside, cancel = box.addButton("Save mine beside…", role.ActionRole), box.addButton("Cancel", role.RejectRole)
        box.setDefaultButton(cancel)
        box.exec()
        clicked = box.clickedButton()
        if clicked is theirs:
            self.answer_file("theirs")
        elif clicked is beside:
            self.answer_file("beside")
        return clicked is mine

    def save_path(self, path: Path) -> bool:
        """Save into a file."""
        if not self._may_write_over(path):
            return False
        try:
            self.window.session.save(path)
        except CombeError as error:
            self.complain("The project was not saved", error)
            return False
        self.window.settings.used(path)
        self.window.tell(f"saved in {path}")
        return True

    def export(self) -> None:
        """Write the code into a folder the user picks."""
        if self.window.session.results.package is None:
            self.window.tell("there is no code to export yet")
            return
        folder = QFileDialog.getExistingDirectory(self.window, "Export code into", self._folder())
        if folder:
            self.export_to(Path(folder))

    def export_to(self, folder: Path) -> bool:
        """Write the code into a folder."""
        package = self.window.session.results.package
        if package is None:
            return False
        try:
            written = package.write(folder)
        except CombeError as error:
            self.complain("The code was not written", error)
            return False
        self.window.session.note(edits.remember_folder(told_beside(folder, self.window.session.folder)))
        self.window.tell(f"{len(written)} files are in {folder}; make check there builds and runs them")
        return True

    def may_leave(self) -> bool:
        """Whether the current project may be left: it's saved, or the user says so."""
        if not self.window.session.is_modified:
            return True
        buttons = QMessageBox.StandardButton
        answer = QMessageBox.question(
            self.window, "Unsaved changes", f"Save the changes to {self.window.session.project.name}?",
            buttons.Save | buttons.Discard | buttons.Cancel, buttons.Save,
        )  # fmt: skip
        if answer == buttons.Save:
            return self.save()
        return answer == buttons.Discard

    def offer_left_behind(self, copies: Sequence[Copy], recovery: Recovery) -> None:
        """Copies of unsaved work: one may be taken up. It is let go only once this window keeps one of its own."""
        from combe.app.left_behind import LeftBehind

        asking = LeftBehind(copies, self.window)
        asking.exec()
        copy = asking.chosen
        if copy is None or copy.project is None:
            return
        file = Path(copy.file) if copy.file and Path(copy.file).exists() else None
        self.window.session.take_up(copy.project, file)
        recovery.keep()
        if recovery.keeper.path.exists():
            drop(copy)

    def preferences(self) -> None:
        """How things look, what a new filter starts with, where tools are."""
        from combe.app.preferences import Preferences as Dialog

        dialog = Dialog(self.window.settings, self.window)
        if dialog.exec() == Dialog.DialogCode.Accepted:
            self.prefer(dialog)

    def prefer(self, dialog: Preferences) -> None:
        """Take what was chosen, and show it."""
        window = self.window
        before = window.settings.theme
        dialog.apply()
        if window.settings.theme != before:
            window.actions_table.dark.setChecked(window.settings.theme == "dark")
            window.dress(window.settings.theme)
        window.actions_table._count(window.settings.counted)

    def rename(self) -> None:
        """Another name for the project and its brief."""
        project = self.window.session.project
        name, accepted = QInputDialog.getText(self.window, "Rename", "Name of this project", text=project.name)
        if accepted:
            self.rename_to(name)

    def rename_to(self, name: str) -> None:
        """Give the project and its brief a name; an empty one changes nothing."""
        self.window.session.edit(edits.rename(name))

    def figure(self) -> None:
        """The current view as a figure for a paper."""
        kinds = "SVG (*.svg);;PDF (*.pdf);;PNG (*.png)"
        path, kind = QFileDialog.getSaveFileName(self.window, "Save this view as a figure", self._folder(), kinds)
        if path:
            ending = kind[:3].lower()
            self.figure_to(Path(path if Path(path).suffix else f"{path}.{ending}"))

    def figure_to(self, path: Path) -> bool:
        """Draw the current view into a file, its kind told by its ending."""
        from combe.app.figures import save_figure

        page = self.window.code_view if self.window.step == "code" else self.window.plots.current_page
        try:
            save_figure(page, path)
        except CombeError as error:
            self.complain("The figure was not saved", error)
            return False
        self.window.tell(f"the view is in {path}")
        return True

    def by_hand(self) -> None:
        """Coefficients typed or pasted."""
        from combe.app.widgets.hand_dialog import HandDialog

        dialog = HandDialog(self.window)
        if dialog.exec():
            self.take_by_hand(dialog.found)

    def take_by_hand(self, given: Given | None) -> None:
        """Make coefficients the design, held against the brief."""
        if given is None:
            return
        self.window.session.edit(edits.take_coefficients(given.filter))
        self.window.tell(f"read as {given.words}")

    def complain(self, title: str, error: CombeError) -> None:
        """Say what went wrong, in a sentence."""
        QMessageBox.warning(self.window, title, error.sentence())

    def about(self) -> None:
        """Who it is."""
        QMessageBox.about(
            self.window, "About Combe",
            f"Combe {__version__}\n\nFilters from a requirement to proved fixed-point code.\n"
            "GPL-3.0-or-later. Generated code belongs to whoever generated it, with no conditions.",
        )  # fmt: skip

    def _folder(self) -> str:
        path = self.window.session.path
        return str(path.parent if path else Path.home())
