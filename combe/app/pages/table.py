"""Coefficients as text by a recipe: the recipe's parts on top, what it makes below, at every key."""

from __future__ import annotations

from functools import partial

from PyQt6.QtWidgets import (
    QApplication,
    QCheckBox,
    QFileDialog,
    QGridLayout,
    QLineEdit,
    QPlainTextEdit,
    QPushButton,
    QSpinBox,
    QVBoxLayout,
)

from combe.app.pages.page import Page, Scene
from combe.app.theme.palette import mono
from combe.app.widgets.parts import Choice, label
from combe.delivery.recipes import GALLERY, RADIXES, SIGNS, Recipe, recipe_document, recipe_named
from combe.errors import CombeError
from combe.files import json_text, write_text
from combe.project.edits import with_recipe, write_table

TEXTS = (
    (
        "header",
        "Header",
        "What stands before; {name}, {NAME}, {count}, {last}, {format} and {type} are filled in; \\n is a new line",
    ),
    ("value", "Value", "What a coefficient becomes; {value} and {index} too"),
    ("separator", "Between", "What stands between two"),
    ("line_start", "Line start", "What every line starts with"),
    ("footer", "Footer", "What stands after"),
)


class TablePage(Page):
    """The recipe's parts on top, what it makes below, at every key."""

    def __init__(self) -> None:
        super().__init__()
        self.recipe = GALLERY[0]
        self.name = ""
        self.gallery = Choice()
        self.gallery.addItems([each.name for each in GALLERY])
        self.gallery.setAccessibleName("recipe")
        self.gallery.activated.connect(lambda k: self._offer(GALLERY[k]))
        self.radix = Choice()
        self.radix.addItems(list(RADIXES))
        self.radix.setAccessibleName("digits")
        self.radix.activated.connect(lambda k: self._offer(with_recipe(self.recipe, radix=RADIXES[k])))
        self.signs = Choice()
        self.signs.addItems(list(SIGNS))
        self.signs.setAccessibleName("sign of a")
        self.signs.activated.connect(lambda k: self._offer(with_recipe(self.recipe, signs=SIGNS[k])))
        self.per_line = QSpinBox()
        self.per_line.setRange(1, 1000)
        self.per_line.setButtonSymbols(QSpinBox.ButtonSymbols.NoButtons)
        self.per_line.setAccessibleName("coefficients a line")
        self.per_line.valueChanged.connect(lambda count: self._offer(with_recipe(self.recipe, per_line=count)))
        self.half = QCheckBox("half of a symmetric set")
        self.half.clicked.connect(lambda on: self._offer(with_recipe(self.recipe, half=on)))
        grid = QGridLayout()
        grid.setHorizontalSpacing(8)
        grid.setVerticalSpacing(4)
        for column, (words, part) in enumerate(
            (("Recipe", self.gallery), ("Digits", self.radix), ("Feedback as", self.signs), ("A line", self.per_line))
        ):
            grid.addWidget(label(words, "muted"), 0, 2 * column)
            grid.addWidget(part, 0, 2 * column + 1)
        grid.addWidget(self.half, 0, 8)
        self.open, self.save = QPushButton("Open…"), QPushButton("Save…")
        self.open.setToolTip("A recipe from a file")
        self.save.setToolTip("Keep this recipe in a file, for other projects and for combe table --recipe")
        self.open.clicked.connect(lambda _: self._open())
        self.save.clicked.connect(lambda _: self._save())
        grid.addWidget(self.open, 3, 6)
        grid.addWidget(self.save, 3, 7)
        self.texts: dict[str, QLineEdit] = {}
        for place, (key, words, hint) in enumerate(TEXTS):
            field = QLineEdit()
            field.setObjectName("field")
            field.setFont(mono())
            field.setToolTip(hint)
            field.setAccessibleName(words.lower())
            field.textEdited.connect(partial(self._typed, key))
            self.texts[key] = field
            row, column = (1, 0) if key == "header" else (2, 0) if key == "footer" else (3, 2 * (place - 1))
            grid.addWidget(label(words, "muted"), row, column)
            grid.addWidget(field, row, column + 1, 1, 8 if row < 3 else 1)
        self.text = QPlainTextEdit()
        self.text.setReadOnly(True)
        self.text.setFont(mono())
        self.text.setLineWrapMode(QPlainTextEdit.LineWrapMode.NoWrap)
        self.text.setAccessibleName("table of coefficients")
        self.trouble = label("", "clay", wrap=True)
        column_layout = QVBoxLayout(self)
        column_layout.setContentsMargins(0, 0, 0, 0)
        column_layout.addLayout(grid)
        column_layout.addWidget(self.trouble)
        column_layout.addWidget(self.text, 1)

    def show_scene(self, scene: Scene) -> None:
        """The recipe in force, and what it makes of the coefficients."""
        recipe = self.recipe = scene.project.recipe
        if recipe.name in [each.name for each in GALLERY]:
            self.gallery.setCurrentText(recipe.name)
        self.radix.setCurrentText(recipe.radix)
        self.signs.setCurrentText(recipe.signs)
        self.per_line.blockSignals(True)
        self.per_line.setValue(recipe.per_line)
        self.per_line.blockSignals(False)
        self.half.setChecked(recipe.half)
        for key, field in self.texts.items():
            written = getattr(recipe, key).replace("\n", "\\n")
            if field.text() != written and not field.hasFocus():
                field.setText(written)
        trouble = scene.trouble("table")
        self.trouble.setText(trouble)
        self.trouble.setVisible(bool(trouble))
        if scene.results.table != self.text.toPlainText():
            self.text.setPlainText(scene.results.table)

    def copy(self) -> str:
        """The table as it would be written."""
        clipboard = QApplication.clipboard()
        if clipboard is not None:
            clipboard.setText(self.text.toPlainText())
        return "the table is on the clipboard"

    def _open(self) -> None:
        path, _ = QFileDialog.getOpenFileName(self, "Open a recipe", "", "Recipes (*.json)")
        if path:
            self.open_path(path)

    def open_path(self, path: str) -> None:
        """Take the recipe in a file."""
        try:
            self._offer(recipe_named(path))
        except CombeError as error:
            self.trouble.setText(error.sentence())
            self.trouble.show()

    def _save(self) -> None:
        path, _ = QFileDialog.getSaveFileName(self, "Save the recipe", f"{self.recipe.name}.json", "Recipes (*.json)")
        if path:
            self.save_path(path)

    def save_path(self, path: str) -> None:
        """Write the recipe to a file."""
        try:
            write_text(path, json_text(recipe_document(self.recipe)))
        except CombeError as error:
            self.trouble.setText(error.sentence())
            self.trouble.show()

    def _typed(self, key: str, text: str) -> None:
        self._offer(with_recipe(self.recipe, **{key: text.replace("\\n", "\n")}))

    def _offer(self, recipe: Recipe) -> None:
        if recipe != self.recipe:
            self.recipe = recipe  # the next key goes on from here
            self.edited.emit(write_table(recipe))
