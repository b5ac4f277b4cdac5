"""What is worked out only while a page that shows it is open."""

from __future__ import annotations

from importlib import import_module
from types import ModuleType
from typing import TYPE_CHECKING

from combe.app.jobs import Job

if TYPE_CHECKING:
    from combe.project.document import Project
    from combe.project.results import Results


WORK, LOOKED_AT, ASKED_FOR = "combe.project.following", "combe.project.looking", "combe.project.proving"


def work(module: str = WORK) -> ModuleType:
    """What the lanes do. Loaded by the first of them that works: the window is on screen before that."""
    return import_module(module)


def make_ready(is_recursive: bool) -> None:
    """Load what a hand on an edge needs at once, designs first; on a thread of its own, when nobody waits."""
    work().make_ready(is_recursive)
    for entry in import_module("combe.app.pages.register").REGISTER:
        if entry.made_in:
            import_module(entry.module)


def job_for(
    name: str, project: Project, results: Results, signal: str, change: tuple[int, int] | None
) -> Job | None:  # fmt: skip
    """The work for a result a page wants; None where nothing has to be done for it, or what it needs isn't there."""
    ideal, rounded = results.ideal, results.rounded
    if ideal is None or rounded is None:
        return None
    jobs: dict[str, Job] = {
        "heard": lambda is_stopped: work(LOOKED_AT).listened(rounded, project, signal, is_stopped),
        "chart": lambda is_stopped: work(LOOKED_AT).charted(ideal, project, is_stopped),
        "trade": lambda is_stopped: work(LOOKED_AT).traded(ideal, project, is_stopped),
        "bench": lambda is_stopped: work(LOOKED_AT).benched(rounded, ideal, project, is_stopped),
        "board": lambda _: work(LOOKED_AT).boarded(rounded, ideal, project, results.budget, change),
        "states": lambda is_stopped: work(LOOKED_AT).compared_states(project, is_stopped),
        "drawing": lambda is_stopped: work(LOOKED_AT).drawn(rounded, project, is_stopped),
        "table": lambda _: work(LOOKED_AT).tabled(rounded, project),
    }
    package = results.package
    if package is not None and "package" in results.fresh:
        jobs["colored"] = lambda is_stopped: work(LOOKED_AT).tinted(package, is_stopped)
    return jobs.get(name)
