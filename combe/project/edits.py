"""Every change of a project as a value: a pure function from one project to the next, and the words undo shows.

Widgets and the window name edits and never build projects; a script can apply the same ones. An edit that can't be made
raises the error that says why, and leaves the project as it was.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from msgspec import Struct

from combe.benching.board.schedule import MOST_BLOCK
from combe.benching.setup import BenchSetup
from combe.delivery.code_choices import CodeChoices, check_code_choices
from combe.delivery.hdl.choices import HardwareChoices, check_hardware_choices
from combe.delivery.package import checked_name
from combe.delivery.recipes import Recipe
from combe.designing.classic.plan import shape_of
from combe.designing.designed import Design
from combe.designing.methods import RATE_METHODS, method_named, plan_shown
from combe.designing.task import DesignChoice
from combe.errors import DesignError
from combe.filters import Filter, Roots
from combe.project.document import Pin, Project, ProofRecord
from combe.project.sources import carried_on
from combe.requirement import Requirement
from combe.requirement.presets import shape
from combe.requirement.quantities import frequency_text
from combe.requirement.sentences import turned, with_edges, with_levels
from combe.rounding.choices import Choices
from combe.values import replace

LEAST_RIPPLE_DB = 1e-4
KEPT_PROOFS = 8


class Edit(Struct, frozen=True):
    """``make`` gives the changed project; ``what`` names the change for undo; edits of one ``gesture`` are one step.

    ``is_held``: the hand still holds what it moves, and more of the same will follow at once.
    """

    what: str
    make: Callable[[Project], Project]
    gesture: str = ""
    is_held: bool = False


class Note(Struct, frozen=True):
    """What follows a project without being a change of it: undo doesn't take it back, a file keeps it."""

    make: Callable[[Project], Project]


# -- the brief -----------------------------------------------------------------------------------------------


def ask(requirement: Requirement, what: str, gesture: str = "") -> Edit:
    """Another requirement. An order chosen by hand stays: what it then misses is seen, and the search is a click away."""
    return Edit(what, lambda project: _asking(project, requirement), gesture, bool(gesture))


def _asking(project: Project, requirement: Requirement) -> Project:
    design = project.design
    if not design.cutoffs_hz and len(design.weights) != len(requirement.bands):
        design = replace(design, weights=())
    arithmetic = project.arithmetic
    if requirement.rate is None and design.method in RATE_METHODS:
        design = DesignChoice("equiripple", holds_with_bits=design.holds_with_bits)
    elif requirement.rate is None and design.plan:
        design = replace(design, plan="")
    elif requirement.rate is not None and project.requirement.rate is None:
        # Taps in stages, the cheapest there are; neither a recursive method nor a structure of one rate goes with that.
        design = DesignChoice("equiripple", plan="cheapest", holds_with_bits=design.holds_with_bits)
        arithmetic = replace(arithmetic, structure="", product_bits=None, accumulator_bits=None)
    return replace(project, requirement=requirement, design=design, arithmetic=arithmetic)


def take_plan(plan: str) -> Edit:
    """Other stages for a change of rate: ``cheapest``, factors such as ``2x2x2``, or one stage where it is empty."""

    def make(project: Project) -> Project:
        bits = project.design.holds_with_bits
        return replace(project, design=DesignChoice("equiripple", plan=plan, holds_with_bits=bits))

    return Edit("choose a plan", make)


def _asking_anew(project: Project, requirement: Requirement) -> Project:
    """Another brief altogether: an order chosen for the old one gives way to the search, unless a cut-off needs it."""
    design = project.design
    if not design.cutoffs_hz:
        design = replace(design, order=None)
    return _asking(replace(project, design=design), requirement)


def move_edge(project: Project, index: int, kind: str, hz: float) -> Edit:
    """Drag an edge of a band (``start``, ``stop``), or the whole band by one (``whole start``, ``whole stop``).

    Edges stop at the neighbours' edges, at 0 and at half the sample rate.
    """
    asked = project.requirement
    band = asked.bands[index]
    low = asked.bands[index - 1].stop_hz if index else 0.0
    high = asked.bands[index + 1].start_hz if index + 1 < len(asked.bands) else asked.nyquist_hz
    if kind.startswith("whole"):
        way = hz - (band.start_hz if kind.endswith("start") else band.stop_hz)
        way = min(max(way, low - band.start_hz), high - band.stop_hz)
        moved = with_edges(asked, index, round(band.start_hz + way, 9), round(band.stop_hz + way, 9))
        return ask(moved, f"move {band.name}", f"{index}{kind}")
    hz = min(max(hz, low), high)
    edges = (hz, band.stop_hz) if kind == "start" else (band.start_hz, hz)
    return ask(with_edges(asked, index, *edges), f"drag the edge of {band.name}", f"{index}{kind}")


def move_level(project: Project, index: int, kind: str, db: float) -> Edit:
    """Drag a limit of a band (``upper``, ``lower``); limits that lie evenly about 0 dB stay so."""
    asked = project.requirement
    band = asked.bands[index]
    if band.lower is None:
        levels: tuple[float | None, float] = (None, min(db, 0.0))
    else:
        low, high = band.lower.first_db, band.upper.first_db
        if low == -high:
            ripple = max(abs(db) if (db > 0) == (kind == "upper") else 0.0, LEAST_RIPPLE_DB)
            levels = (-ripple, ripple)
        else:
            levels = (low, db) if kind == "upper" else (db, high)
    return ask(with_levels(asked, index, *levels), f"drag the limit of {band.name}", f"{index}{kind}")


def start_from(name: str) -> Edit:
    """A brief of one of the usual shapes at the same sample rate."""

    def make(project: Project) -> Project:
        made = _asking_anew(project, shape(name, project.requirement.sample_rate_hz))
        if made.design.cutoffs_hz or made.design.given is not None:
            return made
        # A new filter holds with its integers from the start: the least ideal one fills its limits and misses once rounded.
        bits = made.arithmetic.coefficient_bits
        return replace(made, design=replace(made.design, holds_with_bits=bits))

    return Edit(f"start from a {name}", make)


def turn_brief() -> Edit:
    """Keep what was blocked, block what was kept."""
    return Edit("turn the brief", lambda project: _asking_anew(project, turned(project.requirement)))


def rename(name: str) -> Edit:
    """Another name for the project, and its brief where it has only one; an empty one changes nothing."""

    def make(project: Project) -> Project:
        if not name.strip():
            return project
        if len(project.members) > 1:
            return replace(project, name=name.strip())
        return replace(project, name=name.strip(), requirement=replace(project.requirement, name=name.strip()))

    return Edit("rename", make)


# -- the design ----------------------------------------------------------------------------------------------


def choose_design(choice: DesignChoice) -> Edit:
    """Another way to design. A structure chosen for taps doesn't suit sections, nor the other way round."""

    def make(project: Project) -> Project:
        arithmetic = project.arithmetic
        if choice.method != project.design.method:
            arithmetic = replace(arithmetic, structure="", accumulator_bits=None)
        return replace(project, design=choice, arithmetic=arithmetic)

    return Edit("take a contender", make)


def with_order(choice: DesignChoice, order: int | None) -> DesignChoice:
    """A design of a given order; None for the least that does."""
    return replace(choice, order=order, holds_with_bits=None)


def with_cutoffs(choice: DesignChoice, cutoffs_hz: tuple[float, ...]) -> DesignChoice:
    """A design by its cut-offs, of order 4 (taps: 40) where none is chosen; without cut-offs by the limits."""
    usual = 4 if method_named(choice.method).kind == "iir" else 40
    order = usual if cutoffs_hz and choice.order is None else choice.order
    return replace(choice, cutoffs_hz=cutoffs_hz, order=order if cutoffs_hz else None, holds_with_bits=None)


def with_spare(choice: DesignChoice, spare: str) -> DesignChoice:
    """Where the room that an order leaves goes."""
    return replace(choice, spare=spare)


def with_setting(choice: DesignChoice, name: str, value: float | None) -> DesignChoice:
    """A setting of the method; None leaves it to the method."""
    kept = tuple((other, old) for other, old in choice.settings if other != name)
    return replace(choice, settings=kept if value is None else (*kept, (name, value)))


def take_roots(roots: Roots, what: str, gesture: str = "") -> Edit:
    """Roots moved by hand become the design."""
    return Edit(
        what, lambda project: replace(project, design=DesignChoice("given", given=roots)), gesture, bool(gesture)
    )


def take_coefficients(given: Filter) -> Edit:
    """Coefficients by hand become the design."""
    choice = DesignChoice("given", given=given)
    return Edit("coefficients by hand", lambda project: replace(project, design=choice))


def take_relaxation(requirement: Requirement, method: str) -> Edit:
    """The nearest possible brief, and the method that keeps it."""
    return Edit(
        "take the nearest possible",
        lambda project: replace(project, requirement=requirement, design=DesignChoice(method)),
    )


def design_by_cutoff() -> Edit:
    """By an order and the −3 dB points, the passbands' own edges to begin with."""

    def make(project: Project) -> Project:
        asked = project.requirement
        edges = {edge for band in asked.passbands for edge in (band.start_hz, band.stop_hz)}
        inner = sorted(edge for edge in edges if 0 < edge < asked.nyquist_hz)
        cutoffs = tuple(inner[:1] if len(inner) < 2 else (inner[0], inner[-1])) or (asked.sample_rate_hz / 8,)
        choice = DesignChoice("butterworth", 4, cutoffs_hz=cutoffs, shape="" if shape_of(asked) else "lowpass")
        return replace(project, design=choice)

    return Edit("design by a cut-off", make)


# -- the bench ---------------------------------------------------------------------------------------------


def with_bench(setup: BenchSetup, **changes: Any) -> BenchSetup:
    """What stands on the bench, with some of it replaced."""
    return replace(setup, **changes)


def set_bench(setup: BenchSetup) -> Edit:
    """Another signal on the bench, or other things it goes through."""
    return Edit("change the bench", lambda project: replace(project, bench=setup))


# -- pins ----------------------------------------------------------------------------------------------------


def pin(design: Design) -> Edit:
    """Keep a filter to be drawn behind those that follow, under a name of its own."""

    def make(project: Project) -> Project:
        size = design.size_words
        name = f"{design.method}, {size}"
        taken = {each.name for each in project.pins}
        names = (name, *(f"{name} ({k})" for k in range(2, len(taken) + 3)))
        free = next(word for word in names if word not in taken)
        return replace(project, pins=(*project.pins, Pin(free, design.filter)))

    return Edit("pin a filter", make)


def toggle_pin(index: int) -> Edit:
    """Show or hide a pinned filter; nothing where there is none."""

    def make(project: Project) -> Project:
        pins = project.pins
        if not 0 <= index < len(pins):
            return project
        changed = replace(pins[index], is_shown=not pins[index].is_shown)
        return replace(project, pins=(*pins[:index], changed, *pins[index + 1 :]))

    return Edit("show or hide a pin", make)


def unpin_all() -> Edit:
    """Forget all pinned filters."""
    return Edit("unpin all", lambda project: replace(project, pins=()))


# -- the arithmetic ------------------------------------------------------------------------------------------


def with_choices(choices: Choices, **changes: Any) -> Choices:
    """Choices with some of them replaced; an accumulator chosen for the others is let go."""
    if "structure" in changes and changes["structure"] not in ("", "direct", "transposed"):
        changes = {"product_bits": None} | changes
    return replace(choices, accumulator_bits=None, **changes)


def choose_arithmetic(what: str, **changes: Any) -> Edit:
    """Other choices about the arithmetic, by their names."""

    def make(project: Project) -> Project:
        arithmetic, design = with_choices(project.arithmetic, **changes), project.design
        if design.holds_with_bits is not None:
            design = replace(design, holds_with_bits=arithmetic.coefficient_bits)
        return carried_on(project, replace(project, arithmetic=arithmetic, design=design))

    return Edit(what, make)


def coefficient_bits(bits: int) -> Edit:
    """Another width of coefficients."""
    return choose_arithmetic("coefficient width", coefficient_bits=bits)


def take_cell(order: int | None, bits: int, is_better: bool) -> Edit:
    """An order at a width, with better integers or without."""

    def make(project: Project) -> Project:
        # Stages of a plan are each as short as can be, whatever the order of them all.
        has_plan = project.requirement.rate is not None and plan_shown(project.design) not in ("", "single")
        design = replace(project.design, order=None if has_plan else order, holds_with_bits=None)
        arithmetic = with_choices(project.arithmetic, coefficient_bits=bits, better=is_better)
        return replace(project, design=design, arithmetic=arithmetic)

    return Edit("take an order at a width", make)


def take_remedy(changes: dict[str, Any], what: str) -> Edit:
    """What a remedy changes: choices about the arithmetic, and the order where it names one."""
    arithmetic = choose_arithmetic(what, **{key: value for key, value in changes.items() if key != "order"})
    if "order" not in changes:
        return arithmetic

    def make(project: Project) -> Project:
        design = replace(project.design, order=changes["order"], holds_with_bits=None)
        return arithmetic.make(replace(project, design=design))

    return Edit(what, make)


def hold_with_integers() -> Edit:
    """The least order that keeps every limit with integers of the width in force, and follows it."""

    def make(project: Project) -> Project:
        bits = project.arithmetic.coefficient_bits
        design = replace(project.design, order=None, cutoffs_hz=(), holds_with_bits=bits)
        return replace(project, design=design, arithmetic=replace(project.arithmetic, better=False))

    return Edit("take the least order that holds", make)


def better_integers(is_on: bool) -> Edit:
    """Search for integers that keep more of the margin, or round plainly."""
    return Edit(
        "better integers", lambda project: replace(project, arithmetic=replace(project.arithmetic, better=is_on))
    )


# -- the code ------------------------------------------------------------------------------------------------


def with_code(choices: CodeChoices, key: str, value: object) -> CodeChoices:
    """One choice about code replaced, and those that no longer go with it let go. Raises where it can't be."""
    made = replace(choices, **{key: value})
    if made.written_in.is_circuit:
        made = replace(made, number="integer", history="blocks", unroll=0, guard=False)
    if made.is_float:
        made = replace(made, converter_in="", converter_out="")
    else:
        made = replace(made, guard=False)
    check_code_choices(made)
    for word in (made.file_name, made.type_name):
        if word:
            checked_name(word)
    return made


def with_converter(choices: CodeChoices, codes_in: str, codes_out: str) -> CodeChoices:
    """Raw codes of a converter on both sides, or none. Raises where they don't make sense."""
    made = replace(choices, converter_in=codes_in, converter_out=codes_out)
    check_code_choices(made)
    return made


def choose_code(choices: CodeChoices, what: str) -> Edit:
    """Other choices about code."""
    return Edit(f"choose {what}", lambda project: replace(project, code=choices))


def with_hardware(choices: HardwareChoices, key: str, value: object) -> HardwareChoices:
    """One choice about a circuit replaced. Raises where it can't be."""
    made = replace(choices, **{key: value})
    check_hardware_choices(made)
    return made


def choose_hardware(key: str, value: object, what: str) -> Edit:
    """One choice about circuits."""
    return Edit(
        f"choose {what}", lambda project: replace(project, hardware=with_hardware(project.hardware, key, value))
    )


def choose_architecture(name: str) -> Edit:
    """How a circuit is built."""
    return choose_hardware("architecture", name, "the architecture")


def choose_language(language: str) -> Edit:
    """Another language for the code."""
    return Edit("choose language", lambda project: replace(project, code=with_code(project.code, "language", language)))


def choose_processor(core: str, clock_hz: float, measured: str) -> Edit:
    """The core a budget is counted for."""
    if not 1e3 <= clock_hz <= 1e11:
        raise DesignError(f"{frequency_text(clock_hz)} is not a clock", "clock_hz", "from 1 kHz to 100 GHz")
    return Edit(
        "choose the processor",
        lambda project: replace(
            project,
            processor=replace(project.processor, core=core, clock_hz=clock_hz, measured=measured.strip()),
        ),
    )


def choose_block(block: int) -> Edit:
    """How many samples half a buffer holds, on the board that the code is tried on."""
    if not 1 <= block <= MOST_BLOCK:
        raise DesignError(f"a block of {block} is out of reach", "block", f"take 1 to {MOST_BLOCK:,}")
    return Edit("choose the block", lambda project: replace(project, processor=replace(project.processor, block=block)))


def with_recipe(recipe: Recipe, **changes: Any) -> Recipe:
    """A recipe with some of its parts replaced."""
    return replace(recipe, **changes)


def write_table(recipe: Recipe) -> Edit:
    """Coefficients written by another recipe; typing is one step."""
    return Edit("write the table", lambda project: replace(project, recipe=recipe), "recipe")


# -- what follows a project ----------------------------------------------------------------------------------


def record_proof(record: ProofRecord) -> Note:
    """Remember a proof, in place of an older one of the same text."""

    def make(project: Project) -> Project:
        others = tuple(old for old in project.proofs if old.checksum != record.checksum)
        return replace(project, proofs=(*others, record)[-KEPT_PROOFS:])

    return Note(make)


def remember_folder(folder: str) -> Note:
    """Where the code was exported to."""
    return Note(lambda project: replace(project, export_folder=folder))
