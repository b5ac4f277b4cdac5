"""Changes of a project's tree: filters added, copied, moved, taken away, fed from elsewhere. Names and sources stay whole."""

from __future__ import annotations

from collections.abc import Sequence

from combe.delivery.package import checked_name
from combe.errors import FileError
from combe.project.document import INPUT, DesignChoice, Member, Project, project_of
from combe.project.edits import Edit
from combe.project.shape import MOST_FILTERS
from combe.project.sources import carried_on, check_sources, each_changed, mismatches, output_format, taking
from combe.requirement.presets import shape
from combe.rounding.choices import Choices
from combe.values import replace


def _with(project: Project, members: Sequence[Member], place: int) -> Project:
    check_sources(members)
    return project_of(project.name, members, place, project.kept)


def _inserted(project: Project, member: Member) -> Project:
    """A filter behind the one that is open, opened."""
    if len(project.members) >= MOST_FILTERS:
        raise FileError(f"there are {MOST_FILTERS} filters already", "filters", "take one away first")
    place = project.place + 1
    return _with(project, (*project.members[:place], member, *project.members[place:]), place)


def free_name(project: Project, wanted: str) -> str:
    """A name no other filter has: the wanted one, or with a number behind it."""
    taken = {member.code_name for member in project.members} | {INPUT}
    numbered = (f"{wanted}_{k}" for k in range(2, len(taken) + 3))
    return next(name for name in (wanted, *numbered) if name not in taken)


def add_filter(source: str = INPUT, usual: Choices = Choices()) -> Edit:
    """A new lowpass behind the filter that is open, fed by the input or by another filter, whose rate and format it takes."""

    def make(project: Project) -> Project:
        fed_by = next((member for member in project.members if member.code_name == source), None)
        first = project.members[0]
        rate = fed_by.requirement.output_rate_hz if fed_by is not None else first.requirement.input_rate_hz
        entry = output_format(fed_by) if fed_by is not None else first.arithmetic.input
        asked = replace(shape("lowpass", rate), name="New filter")
        design = DesignChoice("equiripple", holds_with_bits=usual.coefficient_bits)
        name = free_name(project, "filter_1")
        return _inserted(project, Member(asked, design, replace(usual, input=entry), name, source=source))

    return Edit("add a filter", make)


def start_with(usual: Choices) -> Edit:
    """The arithmetic a new project's filter starts with."""
    return Edit("start", lambda project: replace(project, arithmetic=usual))


def duplicate_filter() -> Edit:
    """A copy of the filter that is open, behind it; what was exported and proved stays with the first."""

    def make(project: Project) -> Project:
        name = free_name(project, project.code_name)
        title = replace(project.requirement, name=f"{project.requirement.name} (copy)")
        return _inserted(
            project, replace(project.member, requirement=title, code_name=name, proofs=(), export_folder="")
        )

    return Edit("duplicate a filter", make)


def take_filter(other: Project, name: str) -> Edit:
    """A filter of another project, fed by the input."""

    def make(project: Project) -> Project:
        found = next((member for member in other.members if member.code_name == name), None)
        if found is None:
            known = ", ".join(member.code_name for member in other.members)
            raise FileError(f'there is no filter "{name}"', "filters", f"known are {known}")
        renamed = free_name(project, found.code_name)
        return _inserted(project, replace(found, code_name=renamed, source=INPUT, proofs=(), export_folder=""))

    return Edit("take a filter", make)


def remove_filter() -> Edit:
    """The filter that is open goes; those it fed are fed by what fed it."""

    def make(project: Project) -> Project:
        if len(project.members) == 1:
            raise FileError("a project has at least one filter", "filters", "add another first")
        gone = project.member
        rest = [
            replace(member, source=gone.source) if member.source == gone.code_name else member
            for member in (*project.before, *project.after)
        ]
        return _with(project, rest, min(project.place, len(rest) - 1))

    return Edit("remove a filter", make)


def move_filter(by: int) -> Edit:
    """The filter that is open stands so many places later in the list; what feeds what stays."""

    def make(project: Project) -> Project:
        members = [*project.before, *project.after]
        place = min(max(project.place + by, 0), len(members))
        members.insert(place, project.member)
        return _with(project, members, place)

    return Edit("move a filter", make)


def feed_from(source: str) -> Edit:
    """The filter that is open takes its samples from elsewhere, in the format they come in."""

    def make(project: Project) -> Project:
        changed = replace(project, source=source)
        check_sources(changed.members)
        fed_by = next((member for member in project.members if member.code_name == source), None)
        if fed_by is not None:
            changed = replace(changed, arithmetic=replace(changed.arithmetic, input=output_format(fed_by)))
        return carried_on(project, changed)

    return Edit("feed a filter", make)


def name_code(name: str) -> Edit:
    """Another name in the generated code; filters that are fed by this one still are."""

    def make(project: Project) -> Project:
        old = project.code_name
        new = checked_name(name)
        if any(member.code_name == new for member in (*project.before, *project.after)):
            raise FileError(f'another filter is called "{new}"', "code.name", "give each a name of its own")
        made = each_changed(replace(project, code_name=new), lambda m: replace(m, source=new) if m.source == old else m)
        check_sources(made.members)
        return made

    return Edit("name the code", make)


def title_filter(title: str) -> Edit:
    """Another title of the filter that is open; an empty one changes nothing."""

    def make(project: Project) -> Project:
        if not title.strip():
            return project
        return replace(project, requirement=replace(project.requirement, name=title.strip()))

    return Edit("rename a filter", make)


def mend_joint(name: str) -> Edit:
    """A filter takes its samples in the format its source gives them in."""

    def make(project: Project) -> Project:
        wanted = {joint.name: joint.input for joint in mismatches(project.members) if joint.input}
        if name not in wanted:
            return project
        return each_changed(project, lambda m: taking(m, wanted[name]) if m.code_name == name else m)

    return Edit("mend a joint", make)
