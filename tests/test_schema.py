"""Files read by structs: every mistake in our own words, nothing of a newer version lost, no mutation gets through."""

from __future__ import annotations

import copy
import json
import random
import tempfile
import unittest
from pathlib import Path
from typing import Annotated, Any, Literal

from msgspec import Meta, Struct

from combe.delivery.recipes import recipe_document, recipe_from
from combe.designing.file import design_document, design_from
from combe.designing.methods import design
from combe.errors import CombeError
from combe.project import edits
from combe.project.demo import demo_project, wake_up_project
from combe.project.file import project_document, project_from, read_project, save_project
from combe.realization.reading import realization_document, realization_from
from combe.requirement import requirement_document, requirement_from
from combe.rounding.choices import Choices
from combe.rounding.realize import realize
from combe.schema import merged, one_of, read, split, whole
from combe.values import replace


class Leaf(Struct, forbid_unknown_fields=True):
    size: Annotated[int, whole(1, 9)]
    word: Annotated[Literal["red", "green"], one_of(("red", "green"))] = "red"


class Round(Struct, tag_field="kind", tag="round", forbid_unknown_fields=True):
    radius: Annotated[float, Meta(description="a radius")]


class Square(Struct, tag_field="kind", tag="square"):
    side: float


class Tree(Struct, forbid_unknown_fields=True):
    leaf: Leaf
    leaves: Annotated[list[Leaf], Meta(description="a list of leaves")] = []
    pair: Annotated[tuple[int, Any] | None, Meta(description="[number, anything]")] = None
    level: Annotated[float | list[tuple[float, float]], Meta(description="a level, or points")] = 0.0
    shapes: list[Round | Square] = []


GOOD: dict[str, Any] = {
    "leaf": {"size": 3},
    "leaves": [{"size": 1}, {"size": 2, "word": "green"}],
    "pair": [1, {"x": 2}],
}


class Sentences(unittest.TestCase):
    def told(self, where: str = "", **changes: Any) -> str:
        with self.assertRaises(CombeError) as caught:
            read(copy.deepcopy(GOOD) | changes, Tree, where)
        return caught.exception.sentence()

    def test_what_is_right_is_read(self) -> None:
        found = read(GOOD, Tree)
        self.assertEqual((found.leaves[1].word, found.pair), ("green", (1, {"x": 2})))
        self.assertEqual(read(GOOD | {"pair": None, "note": "a remark", "level": [[0, 1], [2.5, 3]]}, Tree).pair, None)
        self.assertEqual(read(GOOD | {"shapes": [{"kind": "square", "side": 2}]}, Tree).shapes, [Square(2.0)])

    def test_every_mistake_names_place_finding_and_expectation(self) -> None:
        for changes, sentence in (
            ({"leaf": {"size": 12}}, "leaf.size: expected a whole number from 1 to 9, found 12"),
            ({"leaf": {"size": True}}, "leaf.size: expected a whole number from 1 to 9, found true"),
            ({"leaf": {"size": 1.5}}, "leaf.size: expected a whole number from 1 to 9, found 1.5"),
            ({"leaf": {}}, "leaf.size: is missing, expected a whole number from 1 to 9"),
            ({"leaf": {"size": None}}, "leaf.size: is missing, expected a whole number from 1 to 9"),
            ({"leaves": [{"size": 1}, {"size": 2, "word": "blue"}]}, 'leaves[1].word: expected one of "red", "green", found "blue"'),
            ({"leaves": {"a": 1}}, "leaves: expected a list of leaves, found an object"),
            ({"pair": [1]}, "pair: expected [number, anything], found a list"),
            ({"level": "high"}, 'level: expected a level, or points, found "high"'),
            ({"level": [[1, 2], [3]]}, "level[1]: expected a level, or points, found a list"),
            ({"shapes": [{"kind": "round"}]}, "shapes[0].radius: is missing, expected a radius"),
            ({"shapes": [{"kind": "flat"}]}, 'shapes[0].kind: expected one of "round", "square", found "flat"'),
        ):  # fmt: skip
            self.assertEqual(self.told(**changes), sentence)
        self.assertTrue(self.told("garden", leaf={"size": 0}).startswith("garden.leaf.size: "))

    def test_unknown_keys_are_refused_with_a_guess(self) -> None:
        self.assertEqual(self.told(leavs=[]), "leavs: this key is not known; did you mean 'leaves'?")
        self.assertIn("leaf.sise: this key is not known; did you mean 'size'?", self.told(leaf={"size": 1, "sise": 2}))
        self.assertIn("known here are", self.told(zzz=1))
        self.assertIn("shapes[0].x", self.told(shapes=[{"kind": "round", "radius": 1, "x": 2}]))
        read(GOOD | {"shapes": [{"kind": "square", "side": 1, "x": 2}]}, Tree)

    def test_what_is_no_object_is_told(self) -> None:
        for value in (3, [], None, "x"):
            with self.assertRaises(CombeError):
                read(value, Tree)

    def test_strange_keys_come_out_and_go_back(self) -> None:
        strange = copy.deepcopy(GOOD)
        strange["later"] = {"a": [1, 2]}
        strange["leaves"][1]["shade"] = "dark"
        clean, taken = split(strange, Tree)
        self.assertEqual(clean, GOOD)
        self.assertEqual(taken, {("later",): {"a": [1, 2]}, ("leaves", 1, "shade"): "dark"})
        self.assertEqual(merged(clean, taken), strange)
        del clean["leaves"][1]
        self.assertEqual(merged(clean, taken), clean | {"later": {"a": [1, 2]}})


class Newer(unittest.TestCase):
    def strange(self) -> dict[str, Any]:
        document = project_document(demo_project())
        document["version"] = 3
        document["path"] = [{"name": "calls", "from": "input"}]
        document["filters"][0]["requirement"]["bands"][1]["colour"] = "moss"
        document["filters"][0]["arithmetic"]["dither"] = 2
        return document

    def test_what_is_not_known_is_kept_and_written_back(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "p.combe"
            path.write_text(json.dumps(self.strange()))
            project = read_project(path)
            self.assertEqual(project, demo_project())
            changed = edits.coefficient_bits(13).make(project)
            save_project(changed, path)
            found = json.loads(path.read_text())
            wanted = self.strange()
            wanted["filters"][0]["arithmetic"]["coefficient_bits"] = 13
            self.assertEqual(found, wanted)

    def test_the_same_keys_in_a_file_of_today_are_mistakes(self) -> None:
        with self.assertRaises(CombeError) as caught:
            project_from(self.strange() | {"version": 2})
        self.assertIn("not known", caught.exception.sentence())

    def test_what_cannot_be_read_of_a_newer_file_says_that_it_is_newer(self) -> None:
        document = self.strange()
        document["filters"][0]["requirement"]["bands"] = {"calls": "others"}
        with self.assertRaises(CombeError) as caught:
            project_from(document)
        self.assertIn("version 3 is newer than this Combe knows (2)", caught.exception.sentence())

    def test_programs_of_a_newer_version_are_not_obeyed(self) -> None:
        made = realize(design(demo_project().requirement, "equiripple").filter, 250e3, Choices())
        for document, reader in (
            (realization_document(made), realization_from), (requirement_document(demo_project().requirement), requirement_from),
            (recipe_document(demo_project().recipe), recipe_from),
        ):  # fmt: skip
            with self.assertRaises(CombeError) as caught:
                reader(document | {"version": 2})
            self.assertIn("newer than this Combe knows", caught.exception.sentence())


class Mutated(unittest.TestCase):
    """Anything may stand anywhere: it's read, or refused in a sentence."""

    VALUES: tuple[Any, ...] = (
        None,
        True,
        False,
        0,
        -1,
        2.5,
        1e99,
        -1e308,
        10**30,
        10**400,
        "",
        "x",
        "s16f15",
        [],
        [1],
        {},
        {"a": 1},
        [[1, 2]],
        "\ud800",
    )

    def places(self, value: Any) -> list[tuple[Any, Any]]:
        found: list[tuple[Any, Any]] = []
        items = value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ()
        for key, item in items:
            found.append((value, key))
            found += self.places(item)
        return found

    def test_mutations_of_every_kind_of_file(self) -> None:
        source = random.Random(5)
        lowpass = replace(demo_project().requirement, name="x")
        iir = design(wake_up_project().requirement, "elliptic")
        project = replace(
            edits.pin(iir).make(wake_up_project()), code=replace(wake_up_project().code, history="double")
        )
        files: list[tuple[Any, Any]] = [
            (requirement_document(lowpass), requirement_from), (design_document(iir), design_from),
            (realization_document(realize(iir.filter, 250e3, Choices(16, "lattice"))), realization_from),
            (realization_document(realize(iir.filter, 250e3, Choices(16, "direct-1"))), realization_from),
            (project_document(project), project_from), (recipe_document(replace(project.recipe, half=True)), recipe_from),
        ]  # fmt: skip
        refused = 0
        for document, reader in files:
            reader(copy.deepcopy(document))
            for _ in range(150):
                mutant = copy.deepcopy(document)
                for _ in range(source.choice((1, 1, 2))):
                    places = self.places(mutant)
                    holder, key = source.choice(places)
                    if source.random() < 0.2:
                        del holder[key]
                    elif source.random() < 0.15 and isinstance(holder, dict):
                        holder[f"{key}x"] = source.choice(self.VALUES)
                    else:
                        holder[key] = source.choice(self.VALUES)
                try:
                    reader(mutant)
                except CombeError as error:
                    refused += 1
                    self.assertLess(len(error.sentence()), 2000)
        self.assertGreater(refused, 300)


if __name__ == "__main__":
    unittest.main()
