"""Projects of several filters: a tree that stays whole, files that merge, and the whole way as one filter."""

from __future__ import annotations

import json
import math
import random
import shutil
import subprocess
import unittest
from pathlib import Path
from typing import Any

import numpy as np

import combe
from combe.errors import CombeError
from combe.filters import Cascade, Fir
from combe.filters.gathered import taps_and_sections
from combe.project import edits, tree_edits
from combe.project.demo import demo_project, recorder_project
from combe.project.document import INPUT, DesignChoice, Member, Project, ProofRecord, project_of
from combe.project.edits import Edit
from combe.project.file import project_document, project_from, read_project, save_project
from combe.project.history import History
from combe.project.sources import mismatches, sentence, walk, way_to
from combe.project.way import way_of
from combe.requirement.presets import shape
from combe.requirement.sentences import with_edges
from combe.rounding.choices import Choices
from combe.running.flow import ExactFlow
from combe.values import replace
from tests.support import IS_CAMPAIGN, fewer_vectors, first_version, some
from tests.test_cli import InFolder, call
from tests.test_delivery import HAS_GCC

setUpModule = fewer_vectors

RATE = 48_000.0


def by_hand(name: str, source: str, entry: str, output: str, given: Fir | Cascade, bits: int = 12) -> Member:
    asked = replace(shape("lowpass", RATE), name=f"title of {name}")
    return Member(asked, DesignChoice("given", given=given), Choices(bits, "", entry, output), name, source=source)


def random_tree(draw: random.Random, count: int) -> Project:
    """Filters by hand, each fed by the input or by one before it in the format that it gives."""
    members: list[Member] = []
    for k in range(count):
        source = draw.choice([INPUT, *(member.code_name for member in members)])
        entry = next((m.arithmetic.output for m in members if m.code_name == source), "s12f11")
        output = draw.choice(["s16f15", "s14f12", "s20f17"])
        given: Fir | Cascade
        if draw.random() < 0.6:
            given = Fir(tuple(draw.uniform(-0.4, 0.4) for _ in range(draw.choice([1, 2, 5, 9]))))
        else:
            radius, turn = draw.uniform(0.2, 0.8), draw.uniform(0.1, 3.0)
            given = Cascade(
                ((0.3, draw.uniform(-0.3, 0.3), 0.2, -2 * radius * math.cos(turn), radius * radius),),
                draw.choice([0.5, 0.9]),
            )
        members.append(by_hand(f"f{k}", source, entry, output, given))
    return project_of("tree", members)


class Tree(unittest.TestCase):
    def setUp(self) -> None:
        self.project = recorder_project()

    def names(self, project: Project) -> list[str]:
        return [member.code_name for member in project.members]

    def test_one_of_its_filters_is_open_and_the_file_is_the_same_whichever(self) -> None:
        for place, member in enumerate(self.project.members):
            opened = self.project.opened(place)
            self.assertEqual((opened.place, opened.member, opened.code_name), (place, member, member.code_name))
            self.assertEqual(opened.members, self.project.members)
            self.assertTrue(opened.is_same_file(self.project))
            self.assertEqual(project_document(opened), project_document(self.project))
        proof = ProofRecord("c", "abc", "gcc", 10)
        noted = edits.record_proof(proof).make(self.project.opened(2)).opened(0)
        self.assertFalse(noted.is_same_file(self.project))
        self.assertEqual(noted.members[2].proofs, (proof,))

    def test_every_change_keeps_the_tree_whole_and_is_undone(self) -> None:
        draw = random.Random(17)
        for _ in range(12):
            history = History(self.project)
            before = [history.current]
            for _ in range(12):
                project = history.current
                if draw.random() < 0.5:
                    history.open(draw.randrange(len(project.members)))
                    project = history.current
                edit = self.random_edit(draw, project)
                try:
                    after = edit.make(project)
                except CombeError:
                    continue
                if history.change(after, edit.what):
                    before.append(project)
                names = self.names(after)
                self.assertEqual(len(set(names)), len(names))
                for member in after.members:
                    self.assertEqual(way_to(after.members, member.code_name)[0].source, INPUT)
                self.assertEqual(sorted(walk(after.members)), list(range(len(names))))
                self.assertEqual(project_from(json.loads(json.dumps(project_document(after)))).members, after.members)
            for wanted in reversed(before[1:]):
                self.assertEqual(history.undo(), wanted)

    def random_edit(self, draw: random.Random, project: Project) -> Edit:
        source = draw.choice([INPUT, *self.names(project)])
        return draw.choice(
            [
                tree_edits.add_filter(source), tree_edits.duplicate_filter(), tree_edits.remove_filter(), tree_edits.move_filter(draw.choice([-2, -1, 1, 3])),
                tree_edits.feed_from(source), tree_edits.name_code(draw.choice(["a", "b", "calls", "owl"])), tree_edits.title_filter("x"), tree_edits.mend_joint(source),
                tree_edits.take_filter(recorder_project(), "notch"), edits.coefficient_bits(15),
                edits.choose_arithmetic("output", output=draw.choice(["s16f15", "s20f18"])),
            ]
        )  # fmt: skip

    def test_what_is_fed_by_a_filter_follows_its_name_its_end_and_its_format(self) -> None:
        renamed = tree_edits.name_code("bats").make(self.project)
        self.assertEqual([m.source for m in renamed.members], [INPUT, "bats", "notch", INPUT, INPUT, INPUT, INPUT])
        gone = tree_edits.remove_filter().make(self.project.opened(1))
        self.assertEqual([(m.code_name, m.source) for m in gone.members][:2], [("calls", INPUT), ("envelope", "calls")])
        wide = edits.choose_arithmetic("output", output="s20f19").make(self.project)
        self.assertEqual(
            [m.arithmetic.input for m in wide.members],
            ["s12f11", "s20f19", "s16f15", "s12f11", "u10f10", "s12f11", "s12f11"],
        )
        self.assertEqual(mismatches(wide.members), ())
        # A filter whose output follows its input hands the change on.
        chain = project_of(
            "x", [by_hand(*names, "s16f15", "", Fir((0.5,))) for names in (("a", INPUT), ("b", "a"), ("c", "b"))]
        )
        turned = edits.choose_arithmetic("input", input="s12f11").make(chain)
        self.assertEqual([m.arithmetic.input for m in turned.members], ["s12f11"] * 3)
        # One that was told otherwise stays as it was told, and the joint says so.
        own = tree_edits.feed_from(INPUT).make(chain.opened(1))
        own = edits.choose_arithmetic("input", input="s10f9").make(own)
        fed = replace(own, source="a")
        (joint,) = mismatches(fed.members)[:1]
        self.assertEqual((joint.name, joint.source, joint.input), ("b", "a", "s16f15"))
        self.assertIn("takes s10f9, a gives s16f15", joint.sentence)
        mended = tree_edits.mend_joint("b").make(fed)
        self.assertEqual(mended.members[1].arithmetic.input, "s16f15")

    def test_what_cannot_be_is_refused_with_a_sentence(self) -> None:
        for edit, words in (
            (tree_edits.feed_from("envelope"), "from itself"), (tree_edits.feed_from("calls"), "from itself"), (tree_edits.feed_from("owl"), "there is no filter"),
            (tree_edits.name_code("notch"), "another filter"), (tree_edits.name_code("input"), "means something else"),
            (tree_edits.take_filter(demo_project(), "owl"), "known are calls"),
        ):  # fmt: skip
            with self.assertRaises(CombeError) as caught:
                edit.make(self.project)
            self.assertIn(words, caught.exception.sentence())
        with self.assertRaises(CombeError):
            tree_edits.remove_filter().make(demo_project())

    def test_a_note_is_made_of_the_filter_it_is_about(self) -> None:
        history = History(self.project)
        history.change(edits.coefficient_bits(17).make(history.current), "bits")
        history.open(1)
        history.note(edits.record_proof(ProofRecord("c", "abc", "gcc", 10)).make)
        history.note(edits.remember_folder("out").make)
        for project in (history.current, history.undo()):
            found = {m.code_name: (len(m.proofs), m.export_folder) for m in project.members}
            self.assertEqual((found["calls"], found["notch"]), ((0, ""), (1, "out")))

    def test_opening_another_filter_is_no_step(self) -> None:
        history = History(self.project)
        self.assertTrue(history.open(3))
        self.assertFalse(history.open(3))
        self.assertEqual((history.undo_name, history.current.code_name), ("", "wake_up"))
        history.change(edits.coefficient_bits(17).make(history.current), "bits")
        history.open(0)
        self.assertEqual(history.undo().code_name, "wake_up")

    def test_the_path_reads_as_a_sentence(self) -> None:
        told = sentence(self.project.members)
        self.assertEqual(
            told,
            "s12f11 at 250 kHz → calls → notch → envelope; input → wake_up; input → probe; input → audible ÷8; input → link ×4",
        )
        forked = tree_edits.add_filter("calls").make(self.project)
        self.assertIn("calls → filter_1; calls → notch", sentence(forked.members))


class File(InFolder):
    def test_files_of_version_1_are_opened_and_written_as_version_2(self) -> None:
        path = self.put("old.combe", first_version(demo_project()))
        project = read_project(path)
        self.assertEqual(project, demo_project())
        save_project(project, path)
        document = json.loads(path.read_text())
        self.assertEqual((document["version"], len(document["filters"])), (2, 1))
        self.assertEqual(read_project(path), project)

    def test_trees_that_are_none_are_refused(self) -> None:
        good = project_document(recorder_project())

        def changed(place: int, key: str, value: object) -> dict[str, object]:
            filters = [dict(entry) for entry in good["filters"]]
            filters[place][key] = value
            return good | {"filters": filters}

        for document, words in (
            (changed(1, "source", "owl"), "filters[1].source"), (changed(0, "source", "envelope"), "filters[0].source"),
            (changed(2, "code", {"name": "calls"}), "filters[2].code.name"),
            (good | {"filters": []}, "at least one filter"), (good | {"filters": 5}, "filters"), (changed(3, "surprise", 1), "filters[3]"),
            (changed(0, "source", 7), "filters[0].source"),
            (good | {"filters": [good["filters"][0]] * 300}, "filters"), ({key: good[key] for key in ("format", "version", "name")}, "filters"),
        ):  # fmt: skip
            with self.subTest(words), self.assertRaises(CombeError) as caught:
                project_from(document)
            self.assertIn(words, caught.exception.sentence())

    @unittest.skipUnless(shutil.which("git"), "git is not on this machine")
    def test_two_peoples_changes_to_two_filters_merge(self) -> None:
        path = self.folder / "r.combe"

        def git(*words: str) -> None:
            subprocess.run(
                ["git", "-c", "user.name=a", "-c", "user.email=a@b", *words],
                cwd=self.folder,
                check=True,
                capture_output=True,
            )

        first = recorder_project()
        save_project(first, path)
        git("init", "-q")
        git("add", ".")
        git("commit", "-qm", "first")
        git("checkout", "-qb", "other")
        theirs = edits.coefficient_bits(20).make(first.opened(1))
        theirs = edits.record_proof(ProofRecord("c", "abc", "gcc", 10)).make(theirs)
        save_project(theirs, path)
        git("commit", "-qam", "theirs")
        git("checkout", "-q", "-")
        mine = edits.move_edge(first, 0, "stop", 12_500.0).make(first)
        mine = edits.pin(combe.design(mine.requirement, "equiripple")).make(mine)
        save_project(mine, path)
        git("commit", "-qam", "mine")
        git("merge", "-q", "other")
        found = read_project(path)
        self.assertEqual(found.members[0], mine.members[0])
        self.assertEqual(found.members[1], theirs.members[1])
        self.assertEqual(found.members[1].proofs, theirs.members[1].proofs)

    def test_one_change_touches_few_lines(self) -> None:
        before = json.dumps(project_document(recorder_project()), indent=1).splitlines()
        after = json.dumps(project_document(edits.coefficient_bits(17).make(recorder_project())), indent=1).splitlines()
        self.assertEqual(len(before), len(after))
        self.assertEqual(sum(one != other for one, other in zip(before, after)), 1)


class Whole(unittest.TestCase):
    def test_the_way_is_its_filters_one_after_another_bit_for_bit(self) -> None:
        for seed in some(range(40), 12):
            draw = random.Random(seed)
            project = random_tree(draw, draw.randrange(2, 6))
            name = draw.choice([member.code_name for member in project.members])
            way = way_of(project, name)
            samples = np.array([draw.randrange(-2048, 2048) for _ in range(400)])
            signal, exact = samples, np.ones(7, dtype=complex)
            z = np.exp(1j * np.linspace(0.1, 3.0, 7))
            for member in way_to(project.members, name):
                choices = member.arithmetic
                design = combe.from_document({"format": "combe-design", **document_of(member)})
                realized = combe.realize(design, 12, input=choices.input, output=choices.output)
                signal = combe.simulate(realized, signal)
                exact = exact * evaluated(document_of(member), z)
            np.testing.assert_array_equal(combe.simulate(way.realization(), samples), signal)
            np.testing.assert_allclose(way.response(np.angle(z)), exact, rtol=1e-9)
            np.testing.assert_allclose(combe.response(way.filter(), np.angle(z) / (2 * np.pi)), exact, rtol=1e-7)

    @unittest.skipUnless(HAS_GCC, "gcc is not on this machine")
    def test_its_code_is_proved_in_c_and_as_a_circuit(self) -> None:
        import tempfile

        for seed in some(range(12), 1):
            draw = random.Random(100 + seed)
            project = random_tree(draw, 4)
            way = way_of(
                project, max((m.code_name for m in project.members), key=lambda n, p=project: len(way_to(p.members, n)))
            )
            with tempfile.TemporaryDirectory() as folder:
                self.assertTrue(combe.deliver(way.file(), "c", folder, way.name, prove=True).holds)
                if IS_CAMPAIGN and shutil.which("iverilog"):
                    self.assertTrue(combe.deliver(way.file(), "verilog", f"{folder}/v", way.name, prove=True).holds)

    def test_joints_that_do_not_fit_are_told_with_their_remedy(self) -> None:
        project = random_tree(random.Random(3), 1)
        bad = project_of("x", (*project.members, by_hand("b", "f0", "s9f8", "s9f8", Fir((1.0,)))))
        with self.assertRaises(CombeError) as caught:
            way_of(bad, "b")
        self.assertIn("let b take", caught.exception.sentence())
        slow = replace(shape("lowpass", 8000.0), name="slow")
        other = project_of(
            "x",
            (
                *project.members,
                replace(by_hand("b", "f0", project.arithmetic.output, "s9f8", Fir((1.0,))), requirement=slow),
            ),
        )
        self.assertIn("works at 8 kHz", mismatches(other.members)[0].sentence)

    def test_a_signal_meets_gathered_taps_and_not_huge_sections(self) -> None:
        way = way_of(recorder_project(), "envelope")
        draw = random.Random(5)
        signal = np.array([draw.uniform(-1, 1) for _ in range(600)])
        wanted = signal
        for part in way.parts:
            wanted = ExactFlow(part.design.filter).take(wanted)
        np.testing.assert_allclose(ExactFlow(way.filter()).take(signal), wanted, atol=1e-10)
        plain = Cascade(((1.0, 0.5, 0.2, -0.3, 0.1), (1.0, 1.0, 0.0, 0.0, 0.0)), 0.5)
        self.assertEqual(taps_and_sections(plain), ((), plain))


def document_of(member: Member) -> dict[str, Any]:
    given = member.design.given
    if isinstance(given, Fir):
        return {"version": 1, "method": "given", "sample_rate_hz": RATE, "taps": list(given.taps)}
    assert isinstance(given, Cascade)
    return {
        "version": 1,
        "method": "given",
        "sample_rate_hz": RATE,
        "sections": [list(s) for s in given.sections],
        "gain": given.gain,
    }


def evaluated(document: dict[str, Any], z: np.ndarray) -> np.ndarray:
    """Horner's rule on what a file says."""
    if "taps" in document:
        return np.polyval(document["taps"][::-1], 1 / z)
    found = np.full(len(z), document["gain"], dtype=complex)
    for b0, b1, b2, a1, a2 in document["sections"]:
        found = found * (b0 + b1 / z + b2 / z**2) / (1 + a1 / z + a2 / z**2)
    return found


class Verbs(InFolder):
    def setUp(self) -> None:
        super().setUp()
        self.path = self.folder / "r.combe"
        save_project(recorder_project(), self.path)

    def test_several_filters_want_a_name(self) -> None:
        for verb in (
            ("examine",),
            ("realize",),
            ("path",),
            ("bench", "--signal", "white -20 dB"),
        ):
            status, _, said = call(verb[0], self.path, *verb[1:])
            self.assertEqual(status, 2)
            self.assertIn("there are 7 filters", said)
        status, out, _ = call("examine", self.path, "--filter", "notch", "--json")
        self.assertEqual((status, json.loads(out)["method"]), (0, "elliptic"))
        self.assertIn("known are calls, notch", call("examine", self.path, "--filter", "owl")[2])

    def test_filters_are_listed_with_their_sources(self) -> None:
        status, out, _ = call("list", self.path, "--json")
        rows = json.loads(out)
        self.assertEqual(status, 0)
        self.assertEqual(
            [r["name"] for r in rows], ["calls", "notch", "envelope", "wake_up", "probe", "audible", "link"]
        )
        self.assertEqual([r["source"] for r in rows], ["input", "calls", "notch", "input", "input", "input", "input"])
        self.assertTrue(all(r["meets"] for r in rows))
        save_project(replace(recorder_project().opened(1), arithmetic=Choices(18, "", "s9f8", "s16f15")), self.path)
        self.assertIn("notch takes s9f8, calls gives s16f15", call("list", self.path)[1])

    def test_the_whole_way_through_every_verb(self) -> None:
        self.put("in.txt", "".join(f"{k % 700 - 350}\n" for k in range(300)))
        signal = str(self.folder / "in.txt")
        for k, name in enumerate(("calls", "notch")):
            words = ("simulate", self.path, "--filter", name, "--input", signal, "--output", self.folder / f"{k}.txt")
            self.assertEqual(call(*words)[0], 0)
            signal = str(self.folder / f"{k}.txt")
        words = (
            "simulate",
            self.path,
            "--filter",
            "notch",
            "--path",
            "--input",
            self.folder / "in.txt",
            "--output",
            self.folder / "w.txt",
        )
        self.assertEqual(call(*words)[0], 0)
        self.assertEqual((self.folder / "w.txt").read_text(), Path(signal).read_text())
        status, out, _ = call(
            "path", self.path, "--filter", "notch", "--points", "5", "--out", self.folder / "way.json", "--json"
        )
        found = json.loads(out)
        self.assertEqual((status, found["name"], len(found["response"]["db"])), (0, "calls_to_notch", 5))
        self.assertEqual(found["cost"]["multiplies"], sum(part["cost"]["multiplies"] for part in found["filters"]))
        self.assertAlmostEqual(found["delay_samples"], sum(part["delay_samples"] for part in found["filters"]))
        words = (
            "simulate",
            self.folder / "way.json",
            "--input",
            self.folder / "in.txt",
            "--output",
            self.folder / "x.txt",
        )
        self.assertEqual(call(*words)[0], 0)
        self.assertEqual((self.folder / "x.txt").read_text(), (self.folder / "w.txt").read_text())
        self.assertIn("all of it: 64 multiplies", call("path", self.path, "--filter", "notch")[1])
        status, out, _ = call(
            "bench",
            self.path,
            "--filter",
            "notch",
            "--path",
            "--signal",
            "sine 40 kHz -12 dB",
            "--samples",
            "2000",
            "--json",
        )
        ideal, _, true, joint = json.loads(out)["through"]
        self.assertEqual(joint["name"], "after calls")
        words = (
            "bench",
            self.path,
            "--filter",
            "calls",
            "--signal",
            "sine 40 kHz -12 dB",
            "--samples",
            "2000",
            "--through",
            "bit-true",
            "--json",
        )
        (alone,) = json.loads(call(*words)[1])["through"]
        self.assertEqual(joint["tones"], alone["tones"])
        self.assertAlmostEqual(ideal["tones"][0]["gain_db"], true["tones"][0]["gain_db"], delta=0.01)
        self.assertGreater(true["snr_db"], 60)
        self.assertEqual(
            call("deliver", self.path, "--filter", "notch", "--path", "--language", "c", "--to", self.folder / "c")[0],
            0,
        )
        self.assertTrue((self.folder / "c" / "calls_to_notch.c").exists())
        self.assertIn(
            "is no project", call("simulate", self.folder / "way.json", "--path", "--input", signal, "--output", "-")[2]
        )

    @unittest.skipUnless(HAS_GCC, "gcc is not on this machine")
    def test_everything_that_was_exported_is_checked(self) -> None:
        members = [
            replace(m, export_folder=f"code/{m.code_name}")
            for m in recorder_project().members
            if m.code_name in ("calls", "notch", "probe")
        ]
        save_project(project_of("r", members), self.path)
        for member in members:
            words = ("deliver", self.path, "--filter", member.code_name, "--language", "c", "--name", member.code_name)
            self.assertEqual(call(*words, "--to", self.folder / "code" / member.code_name)[0], 0)
        told = [call("check", self.path, "--json", "--jobs", jobs) for jobs in some(("1", "3"), 1)]
        self.assertEqual({(status, out) for status, out, _ in told}, {(0, told[0][1])})
        found = json.loads(told[0][1])
        self.assertEqual([f["name"] for f in found["filters"]], ["calls", "notch", "probe"])
        (self.folder / "code" / "notch" / "notch.c").write_text("")
        (self.folder / "code" / "probe" / "probe.h").unlink()
        status, out, _ = call("check", self.path)
        self.assertEqual(status, 1)
        self.assertIn("notch: code/notch/notch.c differs", out)
        self.assertIn("probe: code/probe/probe.h is missing", out)
        self.assertEqual(call("check", self.path, "--filter", "calls")[0], 0)
        # A brief that was changed makes other code than what lies there.
        asked = members[0].requirement
        other = replace(members[0], requirement=with_edges(asked, 0, 0.0, 11_000.0))
        save_project(project_of("r", [other, *members[1:]]), self.path)
        status, out, _ = call("check", self.path, "--filter", "calls")
        self.assertEqual(status, 1)
        self.assertIn("code/calls/calls.c differs", out)

    def test_a_filter_that_cannot_be_made_is_named(self) -> None:
        bad = replace(recorder_project().members[1], design=DesignChoice("half-band"))
        save_project(project_of("r", [recorder_project().members[0], bad]), self.path)
        for verb in ("list", "check"):
            status, _, said = call(verb, self.path)
            self.assertEqual(status, 2, said)
            self.assertIn("notch", said)

    @unittest.skipUnless(HAS_GCC, "gcc is not on this machine")
    def test_a_joint_that_does_not_fit_is_no_check_that_holds(self) -> None:
        members = recorder_project().members[:2]
        bad = replace(members[1], arithmetic=replace(members[1].arithmetic, input="s12f11"))
        save_project(project_of("r", [members[0], bad]), self.path)
        status, out, _ = call("check", self.path)
        self.assertEqual(status, 1)
        self.assertIn("notch takes s12f11, calls gives s16f15; let notch take s16f15", out)
        status, out, _ = call("check", self.path, "--json")
        found = json.loads(out)
        self.assertEqual(
            (status, found["holds"], [each["meets"] for each in found["filters"]]), (1, False, [True, True])
        )
