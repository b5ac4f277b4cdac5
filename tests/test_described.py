"""Descriptions of a core: read as strangers read them, and held against the text and what real tools make of it."""

from __future__ import annotations

import json
import random
import re
import shutil
import subprocess
import tempfile
import unittest
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

from combe.delivery.hdl.choices import HardwareChoices
from combe.delivery.hdl.writer import hdl_package
from combe.delivery.package import Package
from combe.filters import Fir
from combe.realization.stages import Realization
from combe.rounding.realize import Choices, realize
from tests.support import fewer_vectors
from tests.test_cli import InFolder, call
from tests.test_polyphase import one_way

setUpModule = fewer_vectors
SPACE = {"x": "http://www.accellera.org/XMLSchema/IPXACT/1685-2014"}
ORDER = [
    "vendor", "library", "name", "version", "busInterfaces", "model", "fileSets", "description",
]  # fmt: skip
"""Of a component's parts in the standard's schema, those that are written."""


def taps(name: str = "filter") -> Realization:
    return realize(Fir((0.1, 0.25, 0.3, 0.25, 0.1)), 48_000.0, Choices(10, "", "s12f11", "s12f11"), name)


def read_yaml(text: str) -> Any:
    """Nested maps by their indentation, lists of words, maps in braces: as much of YAML as a core file needs."""
    lines = [line for line in text.splitlines() if line.strip() and not line.lstrip().startswith("#")]

    def value(word: str) -> Any:
        if word.startswith("["):
            return [part.strip() for part in word[1:-1].split(",")]
        if word.startswith("{"):
            return dict(re.split(r":\s*", part.strip(), maxsplit=1) for part in word[1:-1].split(","))
        return json.loads(word) if word.startswith('"') else word

    def block(at: int, depth: int) -> tuple[Any, int]:
        found: Any = [] if lines[at].lstrip().startswith("- ") else {}
        while at < len(lines) and (indent := len(lines[at]) - len(lines[at].lstrip())) >= depth:
            assert indent == depth, lines[at]
            line = lines[at].strip()
            at += 1
            if isinstance(found, list):
                word = line.removeprefix("- ")
                key, colon, rest = word.partition(": ")
                found.append({key: value(rest)} if colon else value(word))
                continue
            key, rest = re.fullmatch(r"([\w-]+):\s*(.*)", line).groups()  # type: ignore[union-attr]
            assert key not in found, key
            if rest:
                found[key] = value(rest)
            else:
                found[key], at = block(at, len(lines[at]) - len(lines[at].lstrip()))
        return found, at

    assert lines[0] == "CAPI=2:", "the first line says what it is"
    return block(1, 0)[0]


def ports_in(text: str, top: str, language: str) -> dict[str, tuple[str, int]]:
    """Of a module or an entity, read from its text."""
    if language == "verilog":
        head = re.search(rf"module {top} \((.*?)\);", text, re.S)
        assert head is not None
        rows = re.findall(r"(input|output)\s+wire\s+(?:signed\s+)?(?:\[(\d+):0\]\s+)?(\w+)", head[1])
        return {name: (way[:-3], int(high or 0) + 1) for way, high, name in rows}
    head = re.search(rf"entity {top} is\s+port \((.*?)\);\s+end", text, re.S)
    assert head is not None
    rows = re.findall(r"(\w+)\s*:\s*(in|out)\s+std_logic(?:_vector\((\d+) downto 0\))?", head[1])
    return {name: (way, int(high or 0) + 1) for name, way, high in rows}


class Described(unittest.TestCase):
    def package(self, language: str, **more: Any) -> Package:
        return hdl_package(
            taps(), language, "smooth", made="by <hand> & \"eye\"", choices=HardwareChoices(described=True, **more)
        )  # fmt: skip

    def test_the_component_is_what_the_text_says(self) -> None:
        for language, ending in (("verilog", ".v"), ("vhdl", ".vhd")):
            for more in ({}, {"axi_stream": True}, {"reloadable": True}, {"reloadable": True, "axi_stream": True}):
                with self.subTest(language=language, **more):
                    package = self.package(language, architecture="parallel", **more)
                    root = ElementTree.fromstring(package.text(".xml"))
                    top = "smooth_axi" if "axi_stream" in more else "smooth"
                    self.assertEqual(root.findtext("x:name", None, SPACE), top)
                    parts = [part.tag.partition("}")[2] for part in root]
                    self.assertEqual(parts, [part for part in ORDER if part in parts])
                    found = {}
                    for port in root.findall("x:model/x:ports/x:port", SPACE):
                        name, way = port.findtext("x:name", "", SPACE), port.findtext("x:wire/x:direction", "", SPACE)
                        left = port.findtext("x:wire/x:vectors/x:vector/x:left", "0", SPACE)
                        found[name] = (way, int(left) + 1)
                    text = next(file.text for file in package.files if file.name == top + ending)
                    self.assertEqual(found, ports_in(text, top, language))
                    names = {file.name for file in package.files}
                    listed = [f.text for f in root.findall("x:fileSets/x:fileSet/x:file/x:name", SPACE)]
                    self.assertLessEqual(set(listed), names)
                    mapped = [p.text for p in root.findall(".//x:physicalPort/x:name", SPACE)]
                    self.assertEqual(len(mapped), 8 if "axi_stream" in more else 0)
                    self.assertLessEqual(set(mapped), set(found))
                    self.assertIn('by <hand> & "eye"', root.findtext("x:description", "", SPACE))

    def test_streams_of_a_change_of_rate_have_no_end(self) -> None:
        made = one_way(random.Random(1))
        package = hdl_package(made, "verilog", "f", choices=HardwareChoices(axi_stream=True, described=True))
        root = ElementTree.fromstring(package.text(".xml"))
        text = next(file.text for file in package.files if file.name == "f_axi.v")
        names = [port.findtext("x:name", "", SPACE) for port in root.findall("x:model/x:ports/x:port", SPACE)]
        self.assertEqual(set(names), set(ports_in(text, "f_axi", "verilog")))
        self.assertFalse([name for name in names if "tlast" in name])
        self.assertEqual(len(root.findall(".//x:physicalPort", SPACE)), 6)

    @unittest.skipUnless(shutil.which("iverilog"), "iverilog is not on this machine")
    def test_its_files_are_all_that_a_simulator_needs(self) -> None:
        package = self.package("verilog", architecture="serial", axi_stream=True)
        core = read_yaml(package.text(".core"))
        self.assertEqual(core["name"], "local:filters:smooth:1.0.0")
        self.assertIn("<hand>", core["description"])
        with tempfile.TemporaryDirectory() as place:
            for target, is_run in (("default", False), ("sim", True)):
                folder = Path(place) / target
                folder.mkdir()
                sources = []
                for each in core["targets"][target]["filesets"]:
                    for file in core["filesets"][each]["files"]:
                        name = next(iter(file)) if isinstance(file, dict) else file
                        kind = (
                            file[name]["file_type"] if isinstance(file, dict) else core["filesets"][each]["file_type"]
                        )
                        text = next(one.text for one in package.files if one.name == name)
                        (folder / name).write_text(text, encoding="utf-8")
                        sources += [name] if kind == "verilogSource-2001" else []
                words = ["iverilog", "-g2001", "-s", core["targets"][target]["toplevel"], "-o", "out", *sources]
                done = subprocess.run(words, cwd=folder, capture_output=True, text=True, check=False)
                self.assertEqual(done.returncode, 0, done.stderr)
                if is_run:
                    said = subprocess.run(["vvp", "-n", "out"], cwd=folder, capture_output=True, text=True, check=True)
                    self.assertIn("all equal", said.stdout)

    def test_a_board_is_a_target(self) -> None:
        package = self.package("verilog", architecture="transposed", board="alder-node")
        core = read_yaml(package.text(".core"))
        target = core["targets"]["alder-node"]
        self.assertEqual(target["toplevel"], "smooth_top")
        self.assertIn("--package", target["tools"]["icestorm"]["nextpnr_options"])
        names = {file.name for file in package.files}
        for file in core["filesets"]["board"]["files"]:
            self.assertIn(next(iter(file)) if isinstance(file, dict) else file, names)

    def test_nothing_is_described_unless_asked(self) -> None:
        plain = hdl_package(taps(), "verilog", "smooth")
        self.assertFalse([file.name for file in plain.files if file.name.endswith((".core", ".xml"))])


class Command(InFolder):
    def test_from_the_command_line(self) -> None:
        made = self.folder / "r.json"
        call("realize", self.put("taps.txt", "0.25\n0.5\n0.25\n"), "--out", made)
        words = ("deliver", made, "--language", "vhdl", "--name", "smooth", "--to", self.folder / "out", "--describe")
        self.assertEqual(call(*words)[0], 0)
        self.assertTrue((self.folder / "out" / "smooth.core").exists())
        ElementTree.parse(self.folder / "out" / "smooth.xml")
        words = ("deliver", made, "--language", "c", "--name", "smooth", "--to", self.folder / "c", "--describe")
        status, _, said = call(*words)
        self.assertEqual(status, 2)
        self.assertIn("--describe", said)


if __name__ == "__main__":
    unittest.main()
