"""C in one file, and descriptions for other build tools: built by those tools, taken into larger projects, never in each other's place."""

from __future__ import annotations

import shutil
import subprocess
import tempfile
import unittest
from pathlib import Path

from combe.delivery.c import c_package
from combe.delivery.code_choices import BUILDS, CodeChoices
from combe.delivery.package import Package
from combe.errors import FormatError
from combe.filters import Fir
from combe.proof.c import prove_c
from combe.proof.cores import prove_on_target
from combe.realization.stages import Realization
from combe.rounding.realize import Choices, realize
from tests.support import some
from tests.test_cli import InFolder, call
from tests.test_target import HAS_ARM

HAS_GCC = shutil.which("gcc") is not None
STRICT = ["-std=c99", "-Wall", "-Wextra", "-Wpedantic", "-Wconversion", "-Wsign-conversion", "-Werror"]


def made() -> Realization:
    return realize(Fir((0.1, 0.25, 0.3, 0.25, 0.1)), 48_000, Choices(16, "direct"))


def packaged(name: str = "smooth", **choices: object) -> Package:
    return c_package(made(), name, choices=CodeChoices(**choices))  # type: ignore[arg-type]


class InPlace(unittest.TestCase):
    def setUp(self) -> None:
        place = tempfile.TemporaryDirectory()
        self.addCleanup(place.cleanup)
        self.folder = Path(place.name)

    def run_in(self, *words: str, folder: str = "") -> str:
        done = subprocess.run(words, cwd=self.folder / folder, capture_output=True, text=True, check=False)
        self.assertEqual(done.returncode, 0, (words, done.stdout + done.stderr))
        return done.stdout + done.stderr


@unittest.skipUnless(HAS_GCC, "gcc is not on this machine")
class SingleFile(InPlace):
    def test_one_header_that_is_proved_as_two_files_are(self) -> None:
        for more in some(
            ({}, {"reloadable": True}, {"number": "double"}, {"converter_in": "12", "converter_out": "12"}), 2
        ):
            package = packaged(single_file=True, **more)
            self.assertEqual([file.name for file in package.files], ["smooth.h", "smooth_check.c", "Makefile"])
            proof = prove_c(package, made())
            self.assertTrue(proof.holds, (more, proof.sentence()))
        packaged(single_file=True).write(self.folder)
        self.run_in("make", "check")

    @unittest.skipUnless(HAS_ARM, "the Arm compiler and emulator are not on this machine")
    def test_it_runs_on_a_core_as_two_files_do(self) -> None:
        one, two = (prove_on_target(packaged(single_file=single), made()) for single in (True, False))
        self.assertTrue(one.holds and one.uses_intrinsics, one.sentence())
        self.assertEqual(one.instructions, two.instructions)

    def test_one_source_of_a_program_has_the_functions(self) -> None:
        """Included with its body, twice, after it was included without; by another source as it is; by C++."""
        packaged(single_file=True).write(self.folder)
        (self.folder / "a.c").write_text(
            '#include "smooth.h"\n#define SMOOTH_BODY\n#include "smooth.h"\n#include "smooth.h"\nint two(void);\n'
            "int main(void) { smooth_state_t s; smooth_reset(&s); return smooth_step(&s, 0) + two(); }\n"
        )
        (self.folder / "b.c").write_text(
            '#include "smooth.h"\nint two(void);\nint two(void) { smooth_state_t s; smooth_reset(&s); return smooth_step(&s, 0); }\n'
        )
        self.run_in("gcc", *STRICT, "-o", "both", "a.c", "b.c")
        self.run_in("./both")

    def test_nothing_but_its_guards_is_left_behind(self) -> None:
        packaged(single_file=True).write(self.folder)
        text = self.run_in(
            "gcc", "-std=c99", "-dM", "-E", "-DSMOOTH_BODY", "-include", "smooth.h", "-x", "c", "/dev/null"
        )
        own = {line.split()[1] for line in text.splitlines() if "SMOOTH" in line.upper()}
        self.assertEqual(own, {"SMOOTH_H", "SMOOTH_BODY", "SMOOTH_BODY_IS_HERE"})

    def test_other_languages_are_written_as_ever(self) -> None:
        self.assertEqual(packaged(language="c++", single_file=True).files, packaged(language="c++").files)


class BuildTools(InPlace):
    def kinds(self) -> list[Package]:
        ways = ({}, {"single_file": True}, {"language": "c++"})
        return [packaged(build=self.build, file_name="dsp_smooth", **way) for way in some(ways, 1)]

    @unittest.skipUnless(shutil.which("cmake") and HAS_GCC, "cmake is not on this machine")
    def test_cmake_alone_and_inside_another_project(self) -> None:
        self.build = "cmake"
        for index, package in enumerate(self.kinds()):
            package.write(self.folder / f"{index}" / "smooth")
            self.run_in("cmake", "-S", "smooth", "-B", "alone", folder=f"{index}")
            self.run_in("cmake", "--build", "alone", folder=f"{index}")
            self.assertIn("100% tests passed", self.run_in("ctest", "--test-dir", "alone", folder=f"{index}"))
            kind = "CXX" if package.language == "c++" else "C"
            self.program(self.folder / f"{index}", package)
            (self.folder / f"{index}" / "CMakeLists.txt").write_text(
                f"cmake_minimum_required(VERSION 3.13)\nproject(all {kind})\nadd_subdirectory(smooth)\n"
                f"add_executable(main main.{'cpp' if kind == 'CXX' else 'c'})\ntarget_link_libraries(main smooth)\n"
            )
            self.run_in("cmake", "-B", "inside", folder=f"{index}")
            self.run_in("cmake", "--build", "inside", folder=f"{index}")
            self.run_in("inside/main", folder=f"{index}")
            self.assertFalse((self.folder / f"{index}" / "inside" / "smooth" / "smooth_check").exists())

    @unittest.skipUnless(shutil.which("meson") and shutil.which("ninja") and HAS_GCC, "meson is not on this machine")
    def test_meson_alone_and_inside_another_project(self) -> None:
        self.build = "meson"
        for index, package in enumerate(self.kinds()):
            package.write(self.folder / f"{index}" / "subprojects" / "smooth")
            self.run_in("meson", "setup", "alone", "subprojects/smooth", folder=f"{index}")
            self.run_in("meson", "test", "-C", "alone", folder=f"{index}")
            self.program(self.folder / f"{index}", package)
            kind = "cpp" if package.language == "c++" else "c"
            (self.folder / f"{index}" / "meson.build").write_text(
                f"project('all', '{kind}')\nsmooth = dependency('smooth', fallback: ['smooth', 'smooth_dep'])\n"
                f"executable('main', 'main.{kind}', dependencies: smooth)\n"
            )
            self.run_in("meson", "setup", "inside", folder=f"{index}")
            self.run_in("meson", "compile", "-C", "inside", folder=f"{index}")
            self.run_in("inside/main", folder=f"{index}")

    def program(self, folder: Path, package: Package) -> None:
        """Something that uses the filter, as a user would write it."""
        if package.language == "c++":
            (folder / "main.cpp").write_text('#include "dsp_smooth.hpp"\nint main() { smooth s; return s(0); }\n')
            return
        body = "#define SMOOTH_BODY\n" if package.code.single_file else ""
        (folder / "main.c").write_text(
            f'{body}#include "dsp_smooth.h"\nint main(void) {{ smooth_state_t s; smooth_reset(&s); return smooth_step(&s, 0); }}\n'
        )

    def test_descriptions_stay_beside_each_other(self) -> None:
        for name in ("one", "two", "one"):
            packaged(name, build="cmake").write(self.folder)
        names = {path.name for path in self.folder.iterdir()}
        self.assertLessEqual({"CMakeLists.txt", "two.cmake", "Makefile", "two.mk"}, names)
        self.assertNotIn("one.cmake", names)
        self.assertIn('/one.c"', (self.folder / "CMakeLists.txt").read_text())

    def test_one_folder_has_one_meson_build(self) -> None:
        for single in (False, True):
            packaged("one", build="meson", single_file=single).write(self.folder / f"{single}")
            packaged("one", build="meson", single_file=single).write(self.folder / f"{single}")
            with self.assertRaises(FormatError) as caught:
                packaged("two", build="meson", single_file=single).write(self.folder / f"{single}")
            self.assertIn("a folder holds one meson.build", caught.exception.sentence())
            self.assertFalse(list((self.folder / f"{single}").glob("two*")))

    def test_the_makefile_is_always_there(self) -> None:
        for build in BUILDS:
            self.assertIn("Makefile", [file.name for file in packaged(build=build).files])
        with self.assertRaises(FormatError) as caught:
            packaged(build="scripts")
        self.assertIn("known are make, cmake, meson", caught.exception.sentence())


class CommandLine(InFolder):
    def test_from_the_command_line(self) -> None:
        call("realize", self.put("taps.txt", "0.25\n0.5\n0.25\n"), "--out", self.folder / "r.json")
        words = ("deliver", self.folder / "r.json", "--name", "smooth", "--to", self.folder / "out")
        self.assertEqual(call(*words, "--language", "c", "--build", "meson", "--single-file")[0], 0)
        self.assertEqual(
            {path.name for path in (self.folder / "out").iterdir()},
            {"smooth.h", "smooth_check.c", "Makefile", "meson.build"},
        )
        status, _, said = call(*words, "--language", "verilog", "--single-file")
        self.assertEqual(status, 2)
        self.assertIn("--single-file", said)


if __name__ == "__main__":
    unittest.main()
