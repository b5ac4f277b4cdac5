"""What the documents say about coding guidelines, held against the text of many filters."""

from __future__ import annotations

import random
import re
import unittest

from combe.delivery.c.writer import c_package
from combe.delivery.code_choices import CodeChoices
from combe.errors import CombeError
from combe.project.demo import recorder_project
from combe.realization.stages import Realization
from combe.rounding.realize import realize
from tests.rate_cases import random_rates
from tests.support import examples
from tests.test_claims import ROOT
from tests.test_code_choices import sections, taps
from tests.test_delivery import random_realization
from tests.test_networks import random_network
from tests.test_rows import changing

SECTION = re.search(
    r"\*\*Against coding guidelines\.\*\*(.*?)\n\*\*One file", (ROOT / "docs" / "arithmetic.md").read_text("utf-8"), re.S
)  # fmt: skip
assert SECTION is not None
NEVER, DEPARTS = SECTION[1].split("Where the text departs")
WORDS = [word for word in re.findall(r"`(\w+)`", NEVER) if word != "static"]
SEEN = {
    ">>": r">>", "#define": r"#define \w+\(", "_Pragma": r"_Pragma\(", "#pragma": r"#pragma ", "__attribute__": r"__attribute__",
    "__asm__": r"__asm__\(",
    "?:": r"\?.*\?", "++": r"\[\w+\+\+\]", "volatile": r"\bvolatile\b",
}  # fmt: skip


def bare(text: str) -> str:
    """Without comments and the preprocessor's lines."""
    return re.sub(r"^\s*#(?:[^\n]*\\\n)*[^\n]*", "", re.sub(r"/\*.*?\*/", "", text, flags=re.S), flags=re.M)


def functions(text: str) -> list[tuple[str, str]]:
    """Names and bodies in their order: each begins and ends at the line's first column."""
    found = re.findall(r"^(?!static const)[a-zA-Z_][^\n;={}]*?(\w+)\([^;{}]*\)\s*\{\n(.*?)^\}", text, re.S | re.M)
    return [(name, body) for name, body in found]


class Guidelines(unittest.TestCase):
    texts: list[str]

    @classmethod
    def setUpClass(cls) -> None:
        source = random.Random(11)
        made: list[Realization] = [taps(), sections()]
        makers = (random_network, lambda s: random_realization(s, 40), lambda s: random_rates(s, 20, 5))
        made += [makers[k % 3](source) for k in range(examples(240))]
        made += [changing(source, up, down, 90) for up, down in ((4, 1), (1, 8), (2, 1))]
        cls.texts = []
        for one in made:
            for more in ({}, {"reloadable": True}, {"history": "double"}, {"history": "circular"}):
                try:
                    cls.texts.append(c_package(one, "calls", choices=CodeChoices(**more)).text(".c"))  # type: ignore[arg-type]
                except CombeError:
                    continue  # such choices don't go with every structure

    def test_what_never_stands_there(self) -> None:
        self.assertGreater(len(WORDS), 12)
        for text in map(bare, self.texts):
            for word in WORDS:
                self.assertNotRegex(text, rf"\b{word}\b")
            self.assertNotRegex(text, r"^\s*static (?!const|\w+ \w+\(|void|inline|[^=;]*\()", "data that changes")
            self.assertNotRegex(text, r"\(\s*\*\s*\w+\s*\)\s*\(", "a pointer to a function")
            self.assertNotRegex(text, r"(?<![\w.])0[0-9]", "an octal number")
            self.assertNotRegex(text, r"\b(float|double)\b")

    def test_functions_call_only_those_above(self) -> None:
        counted = several = 0
        for text in map(bare, self.texts):
            found = functions(text)
            names = [name for name, _ in found]
            for place, (name, body) in enumerate(found):
                counted += 1
                several += len(re.findall(r"\breturn\b", body)) > 1
                called = set(re.findall(r"\b(\w+)\(", body))
                self.assertFalse(called & set(names[place:]), name)
                for size in re.findall(r"^\s+(?:const )?u?int\d+_t \w+\[([^\]]+)\];", body, re.M):
                    self.assertRegex(size, r"^[\dA-Z_ +*()]+$", "its length is known beforehand")
        self.assertGreater(counted, 3 * len(self.texts))
        self.assertIn("several `return`", DEPARTS)
        self.assertGreater(several, 0)

    def test_what_departs_is_listed_and_seen(self) -> None:
        whole = "\n".join(self.texts)
        for mark, pattern in SEEN.items():
            self.assertIn(mark, DEPARTS)
            self.assertRegex(whole, pattern)


class Demo(unittest.TestCase):
    def test_the_demo_keeps_them_too(self) -> None:
        """Its plain taps, realized by hand here: the project's own searches take seconds."""
        one = recorder_project().opened(0)
        from combe.designing.methods import design

        made = realize(design(one.requirement, "equiripple").filter, one.requirement.sample_rate_hz, one.arithmetic)
        text = bare(c_package(made, "calls").text(".c"))
        self.assertFalse([word for word in WORDS if re.search(rf"\b{word}\b", text)])
        self.assertGreater(len(functions(text)), 2)


if __name__ == "__main__":
    unittest.main()
