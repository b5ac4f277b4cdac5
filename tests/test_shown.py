"""What a step shows of the results, without a window."""

from __future__ import annotations

import unittest

from combe.app.shown import FEW_PINS, curves_of, ledger_of, lines_at
from combe.filters import Fir
from combe.ledger import Line
from combe.project.chain import Rounded, ideal_of
from combe.project.demo import demo_project
from combe.project.document import Pin
from combe.project.results import Results
from combe.rounding.realize import realize
from combe.values import replace


class Shown(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.project = demo_project()
        ideal = ideal_of(cls.project)
        made = realize(ideal.design.filter, 250_000.0, cls.project.arithmetic)
        cls.heard = (
            Line("wind", 0, "max_db", -60.0, -61.0, 1.0, 100.0),
            Line("gone", 7, "max_db", -60.0, -61.0, 1.0, 100.0),
        )
        cls.results = Results().with_result("ideal", ideal).with_result("rounded", Rounded(made, (), ideal.asked))
        cls.results = cls.results.with_result("measured", cls.heard)

    def test_the_filter_a_step_is_about_lies_on_top(self) -> None:
        for step, last in (("brief", "ideal"), ("ideal", "ideal"), ("rounded", "rounded"), ("code", "rounded")):
            self.assertEqual(curves_of(self.project, self.results, step)[-1].name, last, step)
        self.assertEqual(curves_of(self.project, Results(), "ideal"), [])

    def test_pins_lie_behind_and_many_of_them_are_plain(self) -> None:
        for count in (1, FEW_PINS, FEW_PINS + 1):
            pins = tuple(Pin(f"p{k}", Fir((1.0, 0.5))) for k in range(count))
            hidden = replace(pins[0], name="hidden", is_shown=False)
            found = curves_of(replace(self.project, pins=(*pins, hidden)), self.results, "ideal")
            self.assertEqual([curve.name for curve in found[:count]], [pin.name for pin in pins])
            self.assertEqual({curve.dashed for curve in found[:count]}, {count <= FEW_PINS})
            self.assertNotIn("hidden", [curve.name for curve in found])

    def test_lines_of_bands_that_are_gone_are_left_out(self) -> None:
        self.assertEqual(lines_at(self.project, self.results, "arithmetic"), self.heard[:1])
        self.assertEqual(lines_at(self.project, Results(), "rounded"), ())

    def test_columns_are_there_as_far_as_there_are_lines(self) -> None:
        self.assertEqual(list(ledger_of(self.results)), ["ideal", "rounded", "arithmetic"])
        self.assertEqual(ledger_of(Results()), {})


if __name__ == "__main__":
    unittest.main()
