"""Where the filters of a project take their samples from: a tree whose root is the input."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from msgspec import Struct

from combe.errors import FileError
from combe.project.document import INPUT, Member, Project, project_of
from combe.requirement.quantities import frequency_text, rate_text
from combe.values import replace


def check_sources(members: Sequence[Member]) -> None:
    """Refuse names that aren't there or twice, and filters that would feed themselves.

    Raises
    ------
    FileError
        Naming the first that can't be.
    """
    names = [member.code_name for member in members]
    for k, member in enumerate(members):
        if names.index(member.code_name) != k:
            raise FileError(
                f'two filters are called "{member.code_name}"', f"filters[{k}].code.name", "give each a name of its own"
            )
        if member.code_name == INPUT:
            raise FileError(
                f'a filter can\'t be called "{INPUT}"', f"filters[{k}].code.name", "that is where samples come from"
            )
        if member.source != INPUT and member.source not in names:
            known = ", ".join([INPUT, *names])
            raise FileError(f'there is no filter "{member.source}"', f"filters[{k}].source", f"known are {known}")
    for k, member in enumerate(members):
        if not _reaches_input(members, member):
            raise FileError(f'"{member.code_name}" would take its samples from itself', f"filters[{k}].source")


def _reaches_input(members: Sequence[Member], member: Member) -> bool:
    by_name = {each.code_name: each for each in members}
    for _ in members:
        if member.source == INPUT:
            return True
        member = by_name[member.source]
    return False


def way_to(members: Sequence[Member], name: str) -> tuple[Member, ...]:
    """The filters from the input to one of them, in the order samples pass through."""
    by_name = {member.code_name: member for member in members}
    way = [by_name[name]]
    while way[-1].source != INPUT:
        way.append(by_name[way[-1].source])
    return tuple(reversed(way))


def followers(members: Sequence[Member], name: str) -> tuple[Member, ...]:
    """The filters that take their samples from one."""
    return tuple(member for member in members if member.source == name)


def output_format(member: Member) -> str:
    """The format a filter's samples leave in."""
    return member.arithmetic.output or member.arithmetic.input


def taking(member: Member, entry: str) -> Member:
    """The filter with another input format."""
    return replace(member, arithmetic=replace(member.arithmetic, input=entry, accumulator_bits=None))


def each_changed(project: Project, change: Callable[[Member], Member]) -> Project:
    """A project with every filter changed, the same one open."""
    return project_of(project.name, [change(member) for member in project.members], project.place, project.kept)


def carried_on(before: Project, after: Project) -> Project:
    """A change of the open filter's formats carried on: filters fed by it that took its samples as they came still do."""
    made, waiting = after, [after.code_name]
    olds = {member.code_name: output_format(member) for member in before.members}
    while waiting:
        name = waiting.pop()
        news = {member.code_name: output_format(member) for member in made.members}
        old, new = olds.get(name), news[name]
        fed = {m.code_name for m in followers(made.members, name) if old != new and m.arithmetic.input == old}
        if fed:
            made = each_changed(made, lambda m, fed=fed, new=new: taking(m, new) if m.code_name in fed else m)  # type: ignore[misc]
            waiting += sorted(fed)
    return made


class Mismatch(Struct, frozen=True):
    """A joint at which samples don't go over as they are: between which filters, what is wrong, what would mend it.

    ``input`` is the format that would mend it; empty where rates differ.
    """

    name: str
    source: str
    sentence: str
    remedy: str
    input: str = ""


def mismatches(members: Sequence[Member]) -> tuple[Mismatch, ...]:
    """Joints whose rates or formats differ, in the order of the filters."""
    by_name = {member.code_name: member for member in members}
    found = []
    for member in members:
        if member.source == INPUT:
            continue
        source = by_name[member.source]
        rate, wanted = source.requirement.output_rate_hz, member.requirement.input_rate_hz
        if rate != wanted:
            what = f"{member.code_name} works at {rate_text(wanted)}, {source.code_name} gives {rate_text(rate)}"
            found.append(
                Mismatch(
                    member.code_name, source.code_name, what, f"ask for {member.code_name} at {frequency_text(rate)}"
                )
            )
        given = output_format(source)
        if given != member.arithmetic.input:
            what = f"{member.code_name} takes {member.arithmetic.input}, {source.code_name} gives {given}"
            remedy = f"let {member.code_name} take {given}"
            found.append(Mismatch(member.code_name, source.code_name, what, remedy, given))
    return tuple(found)


def walk(members: Sequence[Member]) -> list[int]:
    """Places of the filters as samples pass through them: each followed by those it feeds, in the
    order of the list.
    """
    found: list[int] = []
    waiting = [INPUT]
    while waiting:
        name = waiting.pop()
        if name != INPUT:
            found.append(next(k for k, member in enumerate(members) if member.code_name == name))
        waiting += [member.code_name for member in reversed(followers(members, name))]
    return found


def sentence(members: Sequence[Member]) -> str:
    """The tree read aloud: ``s12f11 at 250 kHz → calls → wake_up; calls → audible``."""
    ways = []
    for member in members:
        if not followers(members, member.code_name):
            ways.append([each.code_name for each in way_to(members, member.code_name)])
    first, by_name = members[0], {member.code_name: member for member in members}
    told: set[str] = set()
    words = []
    for way in ways:
        known = [name for name in way if name in told]
        start = known[-1:] or [
            f"{first.arithmetic.input} at {rate_text(first.requirement.input_rate_hz)}" if not told else INPUT
        ]
        words.append(" → ".join([*start, *(_told(by_name[name]) for name in way if name not in told)]))
        told.update(way)
    return "; ".join(words)


def _told(member: Member) -> str:
    """A filter's name, and how it changes the rate where it does: ``audible ÷8``."""
    rate = member.requirement.rate
    return member.code_name if rate is None else f"{member.code_name} {rate.words}"
