"""Steps behind undo from an earlier day: kept beside the file, taken up where they still belong to it, otherwise let be."""

from __future__ import annotations

import json
import tempfile
import unittest
import zlib
from pathlib import Path
from unittest import mock

from PyQt6.QtWidgets import QApplication

from combe.app.picture import settle
from combe.app.session import Session
from combe.project import edits, steps_file
from combe.project.demo import demo_project
from combe.project.file import read_project, save_project
from combe.project.history import FIRST, History, Value
from combe.project.steps_file import StepsKeeper, read_steps, steps_path
from tests import memory

APPLICATION = QApplication.instance() or QApplication([])


def history_of(count: int) -> History:
    """A project whose first edge was moved so many times."""
    history = History(demo_project())
    for step in range(count):
        history.change(
            edits.move_edge(history.current, 0, "stop", 11_000.0 + step).make(history.current), f"move {step}"
        )
        history.stand(f"{step} dB spare")
    return history


class File(unittest.TestCase):
    def setUp(self) -> None:
        place = tempfile.TemporaryDirectory(prefix="combe-test-")
        self.addCleanup(place.cleanup)
        self.path = Path(place.name) / "calls.combe"

    def keep(self, history: History) -> None:
        save_project(history.current, self.path)
        StepsKeeper().write(self.path, history.values)

    def test_every_step_comes_back_as_it_was(self) -> None:
        history = history_of(5)
        self.keep(history)
        found = read_steps(self.path, read_project(self.path))
        self.assertEqual([value.what for value in found], [FIRST, *(f"move {k}" for k in range(5))])
        self.assertEqual([value.standing for value in found][1:], [f"{k} dB spare" for k in range(5)])
        self.assertEqual([value.project for value in found], [value.project for value in history.values])

    def test_after_a_change_by_others_they_are_let_be(self) -> None:
        self.keep(history_of(3))
        document = json.loads(self.path.read_text())
        document["name"] = "somebody else's"
        self.path.write_text(json.dumps(document))
        self.assertEqual(read_steps(self.path, read_project(self.path)), [])

    def test_damaged_huge_and_strange_files_are_no_steps(self) -> None:
        self.keep(history_of(3))
        opened, place = read_project(self.path), steps_path(self.path)
        whole = place.read_bytes()
        lines = zlib.decompress(whole).splitlines()
        bad = [json.loads(line) for line in lines]
        bad[1]["project"]["filters"] = 7
        for content in (
            b"", b"not packed", whole[: len(whole) // 2], whole[:-1], zlib.compress(b"[" * 100_000), zlib.compress(b"{}"),
            zlib.compress(b'{"project": 3}'), zlib.compress(b"\n".join(json.dumps(line).encode() for line in bad)),
            zlib.compress(lines[0] + b"\n" + json.dumps({"what": 3, "standing": "", "project": bad[-1]["project"]}).encode()),
        ):  # fmt: skip
            place.write_bytes(content)
            self.assertEqual(read_steps(self.path, opened), [])
        with mock.patch.object(steps_file, "MOST_TEXT", 1000):
            place.write_bytes(whole)
            self.assertEqual(read_steps(self.path, opened), [], "unpacked it would be too large")
        with mock.patch.object(steps_file, "MOST_BYTES", 100):
            self.assertEqual(read_steps(self.path, opened), [])
        place.unlink()
        self.assertEqual(read_steps(self.path, opened), [])
        place.mkdir()
        self.assertEqual(read_steps(self.path, opened), [])

    def test_the_oldest_go_where_room_ends(self) -> None:
        history = history_of(40)
        with mock.patch.object(steps_file, "MOST_BYTES", 700):
            self.keep(history)
            found = read_steps(self.path, read_project(self.path))
        self.assertTrue(0 < len(found) < 41)
        self.assertEqual(found[-1].project, history.current)
        self.assertEqual([value.what for value in found], [f"move {k}" for k in range(40)][-len(found) :])

    def test_what_is_written_again_is_what_it_is_now(self) -> None:
        history, keeper = history_of(2), StepsKeeper()
        for _ in range(3):
            save_project(history.current, self.path)
            keeper.write(self.path, history.values)
            found = read_steps(self.path, read_project(self.path))
            self.assertEqual([value.project for value in found], [value.project for value in history.values])
            history.change(
                edits.move_level(history.current, 0, "max", -50.0 - len(found)).make(history.current), "level"
            )


class Recalled(unittest.TestCase):
    def test_older_steps_stand_before_todays(self) -> None:
        old = history_of(3)
        today = History(old.current)
        today.change(edits.move_edge(today.current, 0, "stop", 9000.0).make(today.current), "today")
        today.recall(list(old.values))
        self.assertEqual([step.what for step in today.steps], [FIRST, "move 0", "move 1", "move 2", "today"])
        today.undo()
        self.assertEqual((today.current, today.undo_name), (old.current, "move 2"))
        for _ in range(5):
            today.undo()
        self.assertEqual(today.current, demo_project())
        today.recall([])
        alone = History(demo_project())
        alone.recall([Value(demo_project(), "only", "")])
        self.assertEqual(alone.undo_name, "")


class Window(unittest.TestCase):
    def test_undo_goes_on_the_next_day(self) -> None:
        memory.remember_all(self, demo_project().requirement)
        with tempfile.TemporaryDirectory(prefix="combe-test-") as place:
            path = Path(place) / "calls.combe"
            session = Session(demo_project())
            session.edit(edits.move_edge(session.project, 0, "stop", 11_000.0))
            session.end_gesture()
            session.edit(edits.move_edge(session.project, 0, "stop", 10_500.0))
            session.save(path)
            session.steps_keeper.write_aside(path, session.history.values).join()
            session.close()
            later = Session(read_project(path), path)
            later.start()
            settle(later)
            self.assertEqual([len(later.history.steps), later.is_modified], [3, False])
            later.undo()
            settle(later)
            self.assertEqual(later.project.requirement.bands[0].stop_hz, 11_000.0)
            self.assertTrue(later.is_modified)
            later.close()


if __name__ == "__main__":
    unittest.main()
