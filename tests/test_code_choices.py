"""Every choice about generated code: built by real compilers under sanitizers, compared sample for sample."""

from __future__ import annotations

import json
import random
import shutil
import subprocess
import tempfile
import unittest
from pathlib import Path

import numpy as np

from combe.analysis.exact import exact_filter
from combe.delivery.c import c_package
from combe.delivery.c.codes import codes_through
from combe.delivery.c.floating import real_text
from combe.delivery.code_choices import CodeChoices, converter_from
from combe.designing.methods import design
from combe.errors import FormatError
from combe.filters import Fir
from combe.proof.c import STRICT, prove_c
from combe.realization.formats import Format
from combe.realization.network import Network, Node, Term
from combe.realization.stages import Realization, Requantize, TapSum
from combe.responses import frequency_response
from combe.rounding.realize import Choices, realize
from combe.running.simulate import simulate
from combe.values import replace
from tests.support import IS_CAMPAIGN, asked, some
from tests.test_arithmetic import random_realization
from tests.test_cli import InFolder, call
from tests.test_delivery import SANITIZERS
from tests.test_networks import random_network

HAS_GCC = shutil.which("gcc") is not None
HAS_CPP = shutil.which("g++") is not None
LOW = asked(48_000, (0, 6000, -0.5, 0.1), (9_000, 24_000, -50))


def taps(choices: Choices = Choices(16), order: int = 20) -> Realization:
    return realize(design(LOW, "equiripple", order).filter, 48_000, choices)


def sections(choices: Choices = Choices(16)) -> Realization:
    return realize(design(LOW, "elliptic", 5).filter, 48_000, choices)


@unittest.skipUnless(HAS_GCC, "gcc is not on this machine")
class Integers(unittest.TestCase):
    def proved(self, made: Realization, choices: CodeChoices) -> str:
        package = c_package(made, "filter_1", choices=choices)
        proof = prove_c(package, made, (), SANITIZERS)
        self.assertTrue(proof.holds, (choices, proof.sentence()))
        return package.files[1].text

    def test_every_way_to_keep_samples_gives_the_same(self) -> None:
        source = random.Random(3)
        for index in some(range(5), 1):
            made = random_realization(source, 30)
            form = next(stage.form for stage in made.stages if isinstance(stage, TapSum))
            for history in ("double", "circular"):
                if form == "folded" and history == "circular":
                    continue
                with self.subTest(index=index, history=history):
                    self.proved(made, CodeChoices(history=history, unroll=source.choice((0, 4, 8, 32))))

    def test_a_sum_that_fills_its_width_leaves_no_room_for_half_a_step(self) -> None:
        """−32768 · −65535 is 32767 short of 2³¹, and half of 2¹⁶ is one more than that."""
        coefficients, width = Format(True, 16, 15), Format(True, 32, 30)
        for rounding in ("nearest-up", "nearest-even"):
            total = TapSum((-32767, -32767, -1), coefficients, width, "direct")
            cut = Requantize(width, Format(True, 16, 14), rounding, "saturate")
            made = Realization("full", 48_000.0, "direct", Format(True, 16, 15), cut.target, (total, cut))
            self.assertEqual(total.coefficients[0] * 2 + total.coefficients[2], -65535)
            self.proved(made, CodeChoices())
            self.proved(made, CodeChoices(history="circular"))

    def test_a_network_that_remembers_nothing(self) -> None:
        one = Format(True, 2, 0)
        node = Node(
            "y", (Term("input", 0, 3, Format(True, 4, 1)),), Format(True, 24, 16), Format(True, 16, 14), "floor", "wrap"
        )
        twice = Node("z", (Term("y", 0, 1, one), Term("input", 0, -1, one)), Format(True, 24, 15), Format(True, 16, 12),
                     "nearest-even", "saturate")  # fmt: skip
        made = Realization(
            "still", 48_000.0, "network", Format(True, 16, 15), twice.result, (Network((node, twice), "z", "network"),)
        )
        self.proved(made, CodeChoices())
        self.proved(made, CodeChoices(language="c++"))

    def test_short_and_odd_sums_in_every_layout(self) -> None:
        for count in (1, 9) if IS_CAMPAIGN else (9,):
            half = [0.3 / (k + 1) for k in range((count + 1) // 2)]
            even = Fir(tuple(half + half[::-1][count % 2 :]))
            odd = Fir((*half[: count // 2], *[0.0] * (count % 2), *[-h for h in half[: count // 2][::-1]]))
            for filter in (even, odd) if count > 2 else (even,):
                for structure in ("direct", "folded"):
                    for history in ("double", "circular"):
                        if (structure, history) == ("folded", "circular"):
                            continue
                        made = realize(filter, 1.0, Choices(12, structure))
                        self.proved(made, CodeChoices(history=history, unroll=8))

    def test_folded_pairs_are_added_before_they_are_multiplied(self) -> None:
        text = self.proved(taps(Choices(16, "folded")), CodeChoices(history="double"))
        self.assertIn("filter_1_taps_0[11]", text)

    def test_unrolling_and_intrinsics_are_choices(self) -> None:
        made = taps(Choices(16, "direct"), 62)
        for unroll in some((4, 32), 1):
            text = self.proved(made, CodeChoices(unroll=unroll))
            self.assertIn(f"UNROLL({unroll // 2})", text)
        self.assertIn("__smla", self.proved(made, CodeChoices()))
        for plain in some((made, sections()), 1):
            text = self.proved(plain, CodeChoices(intrinsics=False))
            self.assertFalse("__ARM_FEATURE" in text or "arm_acle" in text)

    def test_names_of_files_and_types(self) -> None:
        made = taps()
        package = c_package(made, "filter_1", choices=CodeChoices(file_name="dsp_low", type_name="low"))
        self.assertEqual([f.name for f in package.files], ["dsp_low.h", "dsp_low.c", "dsp_low_check.c", "Makefile"])
        self.assertIn("low_state_t", package.files[0].text)
        self.assertTrue(prove_c(package, made).holds)
        for wrong in (CodeChoices(file_name="../x"), CodeChoices(type_name="int"), CodeChoices(file_name="a b")):
            self.assertRaises(FormatError, c_package, made, "filter_1", None, (), wrong)

    def test_choices_that_do_not_go_together_are_refused(self) -> None:
        made = taps()
        for wrong in (
            CodeChoices(guard=True), CodeChoices(number="single", converter_in="12", converter_out="12"),
            CodeChoices(converter_in="12"), CodeChoices(converter_in="99", converter_out="12"),
            CodeChoices(converter_in="12@9999", converter_out="12"), CodeChoices(number="half"), CodeChoices(unroll=3),
            CodeChoices(history="triple"), CodeChoices(converter_in="20", converter_out="12"),
        ):  # fmt: skip
            with self.subTest(wrong=wrong), self.assertRaises(FormatError):
                c_package(made, "filter_1", None, (), wrong)
        lattice = sections(Choices(16, "lattice"))
        self.assertRaises(FormatError, c_package, lattice, "filter_1", None, (), CodeChoices(reloadable=True))


@unittest.skipUnless(HAS_GCC, "gcc is not on this machine")
class ConverterCodes(unittest.TestCase):
    CASES = (
        ("s16f15", "s16f15", "12", "12"), ("s12f11", "s16f15", "12@2000", "10@600"), ("s16f15", "s16f15", "16", "8@3"),
        ("s24f23", "s32f31", "14", "16"), ("s16f15", "s12f11", "8", "16"), ("s12f11", "u8f8", "12", "12@0"),
    )  # fmt: skip

    def test_codes_in_and_out_are_the_models(self) -> None:
        for entry, result, code_in, code_out in some(self.CASES, 2):
            made = taps(Choices(14, "", "s13f12" if code_in == "12@2000" else entry, result))
            choices = CodeChoices(converter_in=code_in, converter_out=code_out)
            with self.subTest(entry=entry, result=result, codes=(code_in, code_out)):
                package = c_package(made, "filter_1", choices=choices)
                self.assertTrue(prove_c(package, made, (), SANITIZERS).holds)

    def test_the_model_is_offset_scaling_and_holding(self) -> None:
        """A filter that passes everything through: codes come back as they went, held at the ends."""
        made = realize(Fir((1.0,)), 1.0, Choices(16, "direct", "s16f15", "s16f15", coefficient_fraction=14))
        codes = np.arange(4096)
        same = codes_through(made, CodeChoices(converter_in="12", converter_out="12"), codes)
        self.assertTrue(np.array_equal(same, codes))
        shifted = codes_through(made, CodeChoices(converter_in="12", converter_out="12@2148"), codes)
        self.assertTrue(np.array_equal(shifted, np.minimum(codes + 100, 4095)))

    def test_no_sample_takes_a_branch(self) -> None:
        made = taps()
        text = c_package(made, "filter_1", choices=CodeChoices(converter_in="12", converter_out="12")).files[1].text
        body = text[text.index("filter_1_run_codes") :]
        self.assertNotIn("if (", body)
        self.assertEqual(body.count("?"), 1)  # the length of a piece, once for all its samples

    def test_typed_converters(self) -> None:
        self.assertEqual(converter_from("12", "x").offset, 2048)
        self.assertEqual(converter_from(" 10@3 ", "x").text, "10@3")
        for wrong in ("", "1", "12@", "12@-1", "a", "40"):
            self.assertRaises(FormatError, converter_from, wrong, "x")


@unittest.skipUnless(HAS_GCC, "gcc is not on this machine")
class Reloading(unittest.TestCase):
    def heard(
        self, made: Realization, other: str, call_text: str, choices: CodeChoices, samples: list[int]
    ) -> list[int]:
        """The program's output with other coefficients set before the first sample."""
        package = c_package(made, "one", choices=choices)
        rows = ", ".join(map(str, samples))
        main = f"""#include "one.h"
#include <stdio.h>
{other}
int main(void) {{
    static one_state_t state; static const one_in_t x[] = {{ {rows} }}; static one_out_t y[{len(samples)}]; size_t n;
    one_reset(&state);
    if ({call_text} != 0) return 7;
    one_run(&state, x, y, {len(samples)});
    for (n = 0; n < {len(samples)}; n++) printf("%ld\\n", (long)y[n]);
    return 0; }}
"""
        with tempfile.TemporaryDirectory() as place:
            package.write(place)
            (Path(place) / "main.c").write_text(main)
            subprocess.run(["gcc", *STRICT, *SANITIZERS, "-o", "run", "one.c", "main.c"], cwd=place, check=True)
            done = subprocess.run([Path(place) / "run"], capture_output=True, text=True, check=False)
        return [] if done.returncode == 7 else [int(word) for word in done.stdout.split()]

    def test_taps_set_at_run_time_are_the_ones_that_count(self) -> None:
        samples = [int(x) for x in np.random.default_rng(1).integers(-32768, 32768, 300)]
        for structure, history in (
            ("direct", "blocks"),
            ("direct", "circular"),
            ("folded", "double"),
            ("folded", "blocks"),
        ):
            made = taps(Choices(14, structure, guard_bits=2))
            stage = made.stages[0]
            assert isinstance(stage, TapSum)
            others = tuple(value // 2 for value in stage.coefficients)
            changed = replace(made, stages=(replace(stage, coefficients=others), *made.stages[1:]))
            table = f"static const int16_t other[] = {{ {', '.join(map(str, others))} }};"
            choices = CodeChoices(reloadable=True, history=history)
            heard = self.heard(made, table, "one_set_taps_0(&state, other)", choices, samples)
            self.assertEqual(heard, simulate(changed, np.array(samples)).tolist(), (structure, history))
            loud = f"static const int16_t other[] = {{ {', '.join(['8191'] * len(others))} }};"
            self.assertEqual(self.heard(made, loud, "one_set_taps_0(&state, other)", choices, samples), [])

    def test_sections_set_at_run_time(self) -> None:
        samples = [int(x) for x in np.random.default_rng(2).integers(-32768, 32768, 300)]
        made = sections()
        first = made.stages[0]
        others = replace(first, b=tuple(value // 2 for value in first.b), a=(first.a[0] // 2, first.a[1] // 2))  # type: ignore[union-attr, call-arg]
        changed = replace(made, stages=(others, *made.stages[1:]))
        table = (
            f"static const int16_t b[] = {{ {', '.join(map(str, others.b))} }};\n"  # type: ignore[union-attr]
            f"static const int16_t a[] = {{ {', '.join(map(str, others.a))} }};"  # type: ignore[union-attr]
        )
        choices = CodeChoices(reloadable=True)
        heard = self.heard(made, table, "one_set_section_0(&state, b, a)", choices, samples)
        self.assertEqual(heard, simulate(changed, np.array(samples)).tolist())
        self.assertTrue(prove_c(c_package(made, "one", choices=choices), made, (), SANITIZERS).holds)
        self.assertTrue(prove_c(c_package(taps(), "one", choices=choices), taps(), (), SANITIZERS).holds)


@unittest.skipUnless(HAS_GCC, "gcc is not on this machine")
class FloatingPoint(unittest.TestCase):
    def test_every_structure_in_single_and_double(self) -> None:
        made = [taps(Choices(16, form)) for form in ("direct", "folded", "transposed")]
        made += [sections(Choices(16, form)) for form in ("direct-1", "direct-2", "transposed-1", "transposed-2", "coupled", "lattice", "allpass-sum")]  # fmt: skip
        made += [sections(Choices(16, "direct-1", error_feedback=True)), taps(Choices(16, "direct", product_bits=12))]
        for each in some(made, 3):
            for number in ("single", "double") if each.structure in ("folded", "lattice") else ("single",):
                choices = CodeChoices(number=number, guard=each.is_recursive)
                proof = prove_c(c_package(each, "filter_1", choices=choices), each, (), SANITIZERS)
                self.assertTrue(proof.holds, (each.structure, number, proof.sentence()))
                self.assertLess(proof.largest_error or 0, proof.tolerance or 0)

    def test_random_networks(self) -> None:
        source = random.Random(9)
        for index in some(range(6), 1):
            made = random_network(source)
            proof = prove_c(c_package(made, "filter_1", choices=CodeChoices(number="single")), made)
            self.assertTrue(proof.holds, (index, proof.sentence()))

    def test_a_changed_coefficient_is_caught(self) -> None:
        made = taps(Choices(16, "direct"))
        package = c_package(made, "filter_1", choices=CodeChoices(number="single"))
        stage = made.stages[0]
        assert isinstance(stage, TapSum)
        word = real_text(stage.coefficients[4] * stage.coefficient.step, "single")
        near = real_text(stage.coefficients[4] * stage.coefficient.step * 1.001, "single")
        files = tuple(
            replace(f, text=f.text.replace(word, near)) if f.name.endswith("1.c") else f for f in package.files
        )
        self.assertFalse(prove_c(replace(package, files=files), made).holds)

    def test_constants_read_back_to_the_same_number(self) -> None:
        for value in (0.1, 1.0, -3e-9, 1 / 3, 2.0**-140, 12345678.9):
            self.assertEqual(float(real_text(value, "double")), value)
            self.assertEqual(np.float32(float(real_text(value, "single")[:-1])), np.float32(value))

    def test_denormals_are_told_and_guarded(self) -> None:
        """After an impulse the loop dies away; with the guard it ends in zeros."""
        made = sections()
        plain = c_package(made, "one", choices=CodeChoices(number="single"))
        guarded = c_package(made, "one", choices=CodeChoices(number="single", guard=True))
        self.assertIn("denormals within some", plain.files[0].text)
        self.assertIn("no guard", plain.files[0].text)
        main = """#include "one.h"
#include <math.h>
#include <stdio.h>
int main(void) { static one_state_t s; int tiny = 0; long n; one_reset(&s); (void)one_step(&s, 0.5f);
 for (n = 0; n < 20000; n++) { const float y = one_step(&s, 0.0f); tiny += fpclassify(y) == FP_SUBNORMAL; }
 printf("%d", tiny); return 0; }
"""
        found = []
        for package in (plain, guarded):
            with tempfile.TemporaryDirectory() as place:
                package.write(place)
                (Path(place) / "main.c").write_text(main)
                subprocess.run(["gcc", "-O1", "-std=c99", "-o", "run", "one.c", "main.c", "-lm"], cwd=place, check=True)
                done = subprocess.run([Path(place) / "run"], capture_output=True, text=True, check=True)
                found.append(int(done.stdout))
        self.assertGreater(found[0], 0)
        self.assertEqual(found[1], 0)


@unittest.skipUnless(HAS_CPP, "g++ is not on this machine")
class CPlusPlus(unittest.TestCase):
    def test_one_header_with_a_class(self) -> None:
        cases = (
            (taps(), {}), (sections(), {}), (sections(Choices(16, "lattice")), {}), (taps(), {"reloadable": True}),
            (taps(), {"number": "single"}), (taps(), {"converter_in": "12", "converter_out": "12"}), (taps(), {"history": "double"}),
        )  # fmt: skip
        for made, more in some(cases, 2):
            package = c_package(made, "filter_1", choices=CodeChoices("c++", **more))  # type: ignore[arg-type]
            self.assertEqual([f.name for f in package.files], ["filter_1.hpp", "filter_1_check.cpp", "Makefile"])
            proof = prove_c(package, made, (), SANITIZERS)
            self.assertTrue(proof.holds, (more, proof.sentence()))

    def test_nothing_leaks_from_the_header(self) -> None:
        """Macros a file has after it includes the header and hadn't before: the include guard, and what the standard has."""
        for made in (taps(Choices(16, "direct"), 40), sections()):
            package = c_package(made, "filter_1", choices=CodeChoices("c++"))
            with tempfile.TemporaryDirectory() as place:
                package.write(place)
                words = ["g++", "-std=c++17", "-dM", "-E", "-include", "filter_1.hpp", "-x", "c++", "/dev/null"]
                done = subprocess.run(words, cwd=place, capture_output=True, text=True, check=True)
            own = {line.split()[1] for line in done.stdout.splitlines() if "FILTER_1" in line.upper()}
            self.assertEqual(own, {"FILTER_1_HPP"})

    def test_two_files_may_include_it(self) -> None:
        package = c_package(taps(), "filter_1", choices=CodeChoices("c++"))
        with tempfile.TemporaryDirectory() as place:
            package.write(place)
            (Path(place) / "a.cpp").write_text('#include "filter_1.hpp"\nint two() { filter_1 f; return f(1); }\n')
            (Path(place) / "b.cpp").write_text(
                '#include "filter_1.hpp"\nint two();\nint main() { filter_1 f; return f(0) + two() * 0; }\n'
            )
            done = subprocess.run(
                ["g++", "-std=c++17", "-Wall", "-Wextra", "-Werror", "a.cpp", "b.cpp"], cwd=place, check=False
            )
            self.assertEqual(done.returncode, 0)


@unittest.skipUnless(HAS_GCC, "gcc is not on this machine")
class Measured(unittest.TestCase):
    def test_the_codes_response_is_the_filters(self) -> None:
        """Noise through the compiled program: gain, phase and delay within what the rounding noise allows."""
        for made in (taps(), sections()):
            found = prove_c(c_package(made, "filter_1"), made).response
            assert found is not None
            wanted = frequency_response(exact_filter(made), 2 * np.pi * found.hz / 48_000)
            passed = np.abs(wanted) > 0.3
            gain = 10 ** (found.db / 20)
            self.assertLess(float(np.max(np.abs(gain - np.abs(wanted)))), 5 * 10 ** (found.floor_db / 20))
            self.assertLess(found.floor_db, -75)
            turn = np.angle(np.exp(1j * (found.phase_rad - np.angle(wanted))))
            self.assertLess(float(np.max(np.abs(turn[passed]))), 1e-3)
        made = taps()
        found = prove_c(c_package(made, "filter_1"), made).response
        assert found is not None
        self.assertLess(float(np.max(np.abs(found.delay_samples[20:200] - 10))), 0.05)


@unittest.skipUnless(HAS_GCC, "gcc is not on this machine")
class CommandLine(InFolder):
    def test_choices_from_the_command_line(self) -> None:
        taps_file = self.put("taps.txt", "0.25\n0.5\n0.25\n")
        made = self.folder / "r.json"
        call("realize", taps_file, "--out", made)
        words = ("deliver", made, "--to", self.folder / "out", "--name", "smooth", "--prove", "--json")
        for more in (
            ("--language", "c", "--number", "single"), ("--language", "c++"), ("--language", "c", "--history", "double", "--unroll", "4"),
            ("--language", "c", "--converter-in", "12", "--converter-out", "12"), ("--language", "c", "--reloadable", "--no-intrinsics"),
        ):  # fmt: skip
            status, out, _ = call(*words, *more)
            document = json.loads(out)
            self.assertEqual((status, document["proof"]["equal"]), (0, True), more)
            self.assertEqual(len(document["proof"]["measured_response"]["hz"]), 1023)
        shutil.rmtree(self.folder / "out")
        for wrong in (("--number", "half"), ("--unroll", "5"), ("--converter-in", "12"), ("--file-name", "a;b")):
            self.refused(*words, "--language", "c", *wrong)
        self.assertFalse((self.folder / "out").exists())


if __name__ == "__main__":
    unittest.main()
