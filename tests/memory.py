"""Results of slow functions without side effects, worked out once for all windows that tests open.

A hundred windows needn't race the same filters. ``tests/run.py`` names a folder that all its modules share; a module run
alone remembers for itself. The functions themselves have tests of their own, which never come through here.
"""

from __future__ import annotations

import contextlib
import fcntl
import hashlib
import os
import pickle
import unittest
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from types import ModuleType
from typing import Any
from unittest import mock

from combe.designing import contenders
from combe.designing.designed import Design
from combe.designing.task import DesignChoice, Task
from combe.project import chain, following, looking
from combe.requirement import Requirement
from combe.rounding import widths
from combe.rounding.trade import trade
from combe.values import replace

FOLDER = "COMBE_TEST_MEMORY"
STREAMS = {"contenders": 1, "prices": 2, "relaxations": 1, "rounding_remedies": 4, "design_chart": 3, "trade": 6}
"""Functions that yield their results one by one, and how many of their arguments tell calls apart."""

WHOLE = ("rounding_facts", "facts", "realize", "certified_lines", "arithmetic_lines")
"""Functions whose result comes at once; their callables don't tell calls apart."""

DESIGNS = ("designed", "design_task")
"""Functions of a task, of which whom it starts from and who may stop it don't tell it from others; drafts aren't remembered."""

Stream = Callable[..., Iterator[object]]
_known: dict[str, list[Any]] = {}


def remember_all(case: unittest.TestCase, demo: Requirement, follows: tuple[str, ...] = ()) -> None:
    """Every function above remembers, until a test case ends; for briefs other than the demo's those of ``BESIDE`` do
    less unless they are to follow."""
    for name, count in STREAMS.items():
        whole = remembered(name, count)
        if name in BESIDE and name not in follows:
            whole = BESIDE[name] if name in ALWAYS else _for(demo, whole, BESIDE[name])
        patched = mock.patch.object(_home(name), name, whole)
        patched.start()
        case.addCleanup(patched.stop)
    case.addCleanup(_narrow().close)
    for name in WHOLE:
        patched = mock.patch.object(_home(name), name, _whole(name))
        patched.start()
        case.addCleanup(patched.stop)
    for name in DESIGNS:
        patched = mock.patch.object(chain, name, _designing(name))
        patched.start()
        case.addCleanup(patched.stop)


def _home(name: str) -> ModuleType:
    """The module that calls a function."""
    return following if hasattr(following, name) else looking


def remembered(name: str, count: int) -> Stream:
    """The real function, run once for each of its arguments."""
    real = getattr(_home(name), name)

    def again(*words: Any, **more: Any) -> Iterator[object]:
        key = _key(name, words[:count])
        stop = next((word for word in reversed(words) if callable(word)), more.get("is_stopped", lambda: False))
        with _alone(key):
            found = _recalled(key)
            if found is None:
                found = []
                for each in real(*words, **more):
                    found.append(each)
                    yield each
                if not stop():
                    _kept(key, found)
                return
        yield from found

    return again


def _whole(name: str) -> Callable[..., Any]:
    """The real function, run once for each of its arguments; a refusal isn't remembered."""
    real = getattr(_home(name), name)

    def again(*words: Any) -> Any:
        key = _key(name, tuple(word for word in words if not callable(word)))
        with _alone(key):
            found = _recalled(key)
            if found is None:
                found = [real(*words)]
                _kept(key, found)
        return found[0]

    return again


def _designing(name: str) -> Callable[[Task], Design]:
    real = getattr(chain, name)

    def again(task: Task) -> Design:
        if task.is_draft:
            return real(task)
        key = _key(name, (task.asked, task.sample_rate_hz, task.choice))
        with _alone(key):
            found = _recalled(key)
            if found is None:
                found = [real(task)]
                _kept(key, found)
        return found[0]

    return again


def _for(demo: Requirement, whole: Stream, less: Stream) -> Stream:
    def chosen(*words: Any, **more: Any) -> Iterator[object]:
        asked = next(word for word in words if isinstance(word, Requirement))
        return (whole if asked == demo else less)(*words, **more)

    return chosen


def _few(asked: Requirement, is_stopped: Callable[[], bool]) -> Iterator[object]:
    """A short race."""
    for name in ("equiripple", "elliptic", "blackman-window"):
        key = _key("few", (asked, name))
        with _alone(key):
            found = _recalled(key)
            if found is None:
                contender = contenders.tried(asked, DesignChoice(name), is_stopped)
                if contender is None:
                    return
                _kept(key, found := [contender])
        yield from found


def _plain(*words: Any) -> Iterator[object]:
    """A small map of plain rounding."""
    requirement, choice, _, _, choices, _, *more = words
    yield from trade(requirement, choice, range(11, 16), 1, choices, True, *more)


def _narrow() -> contextlib.ExitStack:
    """A chart of widths with every fourth width of three structures."""
    stack = contextlib.ExitStack()
    stack.enter_context(mock.patch("combe.rounding.widths.CHARTED", range(10, 27, 4)))
    real = widths.structures_for
    chosen = {"folded", "direct-1", "coupled", "lattice"}
    stack.enter_context(
        mock.patch("combe.rounding.widths.structures_for", lambda source: [n for n in real(source) if n in chosen])
    )
    return stack


BESIDE: dict[str, Stream] = {
    "contenders": _few, "prices": lambda *_: iter(()), "relaxations": lambda *_: iter(()),
    "rounding_remedies": lambda *_: iter(()), "trade": _plain,
}  # fmt: skip
"""What stands beside the chain, and what stands there instead."""
ALWAYS = ("trade",)
"""Of these, what takes too long for the demo's own brief."""


def _key(name: str, words: tuple[Any, ...]) -> str:
    """What tells calls apart: values write themselves out in full, and how long a design took doesn't count."""
    plain = [replace(word, seconds=0.0) if hasattr(word, "seconds") else word for word in words]
    return f"{name}-{hashlib.sha256(repr([_in_full(word) for word in plain]).encode()).hexdigest()[:24]}"


def _in_full(value: Any) -> Any:
    """A value with all that is in it: what it shows of itself is only a line."""
    if isinstance(value, (list, tuple)):
        return [_in_full(item) for item in value]
    names = getattr(value, "__struct_fields__", None) or getattr(value, "__dataclass_fields__", None)
    if names is None:
        return value
    return type(value).__name__, [(name, _in_full(getattr(value, name))) for name in names]


@contextmanager
def _alone(key: str) -> Iterator[None]:
    """One process at a time works a result out; the others wait for it."""
    folder = os.environ.get(FOLDER)
    if not folder or key in _known:
        yield
        return
    with (Path(folder) / f"{key}.lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        yield


def _recalled(key: str) -> list[Any] | None:
    folder = os.environ.get(FOLDER)
    path = Path(folder or ".") / f"{key}.pickle"
    if key not in _known and folder and path.exists():
        _known[key] = pickle.loads(path.read_bytes())
    return _known.get(key)


def _kept(key: str, found: list[Any]) -> None:
    _known[key] = found
    folder = os.environ.get(FOLDER)
    if folder:
        (Path(folder) / f"{key}.pickle").write_bytes(pickle.dumps(found))
