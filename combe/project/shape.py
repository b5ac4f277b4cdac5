"""The shape of a project file."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from msgspec import Meta, Struct, field

from combe.benching.board.schedule import MOST_BLOCK
from combe.benching.setup import LENGTH
from combe.delivery.hdl.choices import ARCHITECTURES
from combe.delivery.recipes import RecipeShape
from combe.designing.task import SHAPES, SPARE
from combe.ledger.cycles import CYCLES_PER_INSTRUCTION
from combe.project.document import INPUT
from combe.realization.formats import OVERFLOWS, ROUNDINGS
from combe.requirement.shape import RequirementShape
from combe.rounding.assemble import SCALINGS
from combe.rounding.choices import FEWEST_BITS, MOST_BITS
from combe.rounding.recursive import ORDERINGS
from combe.schema import one_of, whole
from combe.signals.spec import MOST_SAMPLES

MOST_FILTERS = 200
Text = Annotated[str, Meta(description="a text")]
Flag = Annotated[bool, Meta(description="true or false")]
Number = Annotated[float, Meta(description="a number")]
Numbers = Annotated[list[float], Meta(description="a list of numbers")]
Clock = Annotated[float, Meta(description="a clock in Hz")]


class DesignShape(Struct, forbid_unknown_fields=True):
    """How the filter is designed; coefficients given by hand are an object of their own."""

    method: Text = "equiripple"
    order: Annotated[int, whole(0, 10**6)] | None = None
    symmetry: Annotated[Literal["symmetric", "antisymmetric"], one_of(("symmetric", "antisymmetric"))] = "symmetric"
    cutoffs_hz: Numbers = []
    shape: Annotated[Literal["", "lowpass", "highpass", "bandpass", "bandstop"], one_of(("", *SHAPES))] = ""
    spare: Annotated[Literal["shared", "stopband", "passband"], one_of(SPARE)] = "shared"
    weights: Numbers = []
    settings: Annotated[dict[str, Number], Meta(description="numbers by the names of settings")] = {}
    given: Any = None
    holds_with_bits: Annotated[int, whole(FEWEST_BITS, MOST_BITS)] | None = None
    plan: Text = ""


class ArithmeticShape(Struct, forbid_unknown_fields=True):
    """The choices about the arithmetic."""

    coefficient_bits: Annotated[int, whole(FEWEST_BITS, MOST_BITS)] = 16
    structure: Text = ""
    input: Text = "s16f15"
    output: Text = ""
    accumulator_bits: Annotated[int, whole(2, 64)] | None = None
    rounding: Annotated[Literal["nearest-even", "nearest-up", "floor", "toward-zero"], one_of(ROUNDINGS)] = (
        "nearest-even"
    )
    overflow: Annotated[Literal["saturate", "wrap"], one_of(OVERFLOWS)] = "saturate"
    state_bits: Annotated[int, whole(2, 64)] | None = None
    better: Flag = False
    coefficient_fraction: Annotated[int, whole(-400, 400)] | None = None
    product_bits: Annotated[int, whole(2, 64)] | None = None
    guard_bits: Annotated[int, whole(0, 32)] = 0
    scaling: Annotated[Literal["l1", "l2", "peak"], one_of(SCALINGS)] = "l1"
    ordering: Annotated[str, one_of(ORDERINGS)] = "given"
    error_feedback: Flag = False
    branches: Annotated[int, whole(2, 16)] = 2
    pruned: Flag = False


class CodeShape(Struct, forbid_unknown_fields=True):
    """The choices about code, its name, and where it was exported to."""

    name: Annotated[str, Meta(description="a name")] | None = None
    folder: Annotated[str, Meta(description="a folder")] = ""
    language: Text = "c"
    number: Text = "integer"
    history: Text = "blocks"
    unroll: Annotated[int, whole(0, 32)] = 0
    intrinsics: Flag = True
    reloadable: Flag = False
    guard: Flag = False
    converter_in: Text = ""
    converter_out: Text = ""
    build: Text = "make"
    single_file: Flag = False
    file_name: Text = ""
    type_name: Text = ""


class ProcessorShape(Struct, forbid_unknown_fields=True):
    """The core a budget is counted for."""

    core: Annotated[
        Literal["cortex-m0plus", "cortex-m3", "cortex-m4", "cortex-m7", "rv32imac", "rv64imac"],
        one_of(CYCLES_PER_INSTRUCTION),
    ] = "cortex-m4"
    clock_hz: Annotated[float, Meta(ge=1e3, le=1e11, description="a clock from 1 kHz to 100 GHz")] = 80e6
    measured: Text = ""
    block: Annotated[int, whole(1, MOST_BLOCK)] = 128


class HardwareShape(Struct, forbid_unknown_fields=True):
    """The choices about a circuit."""

    architecture: Annotated[str, one_of(("", *ARCHITECTURES))] = ""
    clock_hz: Clock = 0.0
    multipliers: Annotated[int, whole(0, 4096)] = 0
    pipeline: Annotated[int, whole(0, 16)] = 1
    double_buffer: Flag = False
    axi_stream: Flag = False
    board: Text = ""
    described: Flag = False


class BenchShape(Struct, forbid_unknown_fields=True):
    """What stands on the bench."""

    signal: Text = ""
    samples: Annotated[int, whole(1, MOST_SAMPLES)] = LENGTH
    seed: Annotated[int, whole(0, 2**31 - 1)] = 1
    through: Annotated[list[str], Meta(description="a list of names")] = field(
        default_factory=lambda: ["ideal", "bit-true"]
    )
    average: Annotated[int, whole(0, 65_536)] = 0
    asks: Annotated[list[str], Meta(max_length=20, description="a list of at most 20 sentences")] = []


class LineShape(Struct):
    """One line of a ledger as it was measured."""

    band: Text
    band_index: Annotated[int, whole(-1, 1000)]
    limit: Text
    asked: Number
    reached: Number
    margin: Number
    at_hz: Number | None = None


class ProofShape(Struct):
    """A proof that was made."""

    language: Text
    checksum: Text
    tool: Text
    samples: Annotated[int, whole(0, 10**12)]
    lines: Annotated[list[LineShape], Meta(description="a list of lines")] = []


class PinShape(Struct):
    """A filter kept: its name, and its coefficients in keys of their own."""

    name: Text = "pin"
    shown: Flag = True


class StateShape(Struct, forbid_unknown_fields=True, kw_only=True):
    """What was asked and chosen: what a filter and its variants have alike."""

    requirement: Annotated[RequirementShape, Meta(description="a requirement")]
    design: Annotated[DesignShape, Meta(description="an object with named keys")] = field(default_factory=DesignShape)
    arithmetic: Annotated[ArithmeticShape, Meta(description="an object with named keys")] = field(
        default_factory=ArithmeticShape
    )
    code: Annotated[CodeShape, Meta(description="an object with named keys")] = field(default_factory=CodeShape)
    hardware: Annotated[HardwareShape, Meta(description="an object with named keys")] = field(
        default_factory=HardwareShape
    )


class VariantShape(StateShape, forbid_unknown_fields=True, kw_only=True):
    """A state of a filter kept under a name."""

    name: Text
    note: Text = ""


class FilterShape(StateShape, forbid_unknown_fields=True, kw_only=True):
    """One filter with all that was chosen for it."""

    source: Text = INPUT
    variants: Annotated[list[VariantShape], Meta(max_length=100, description="a list of at most 100 variants")] = []
    proofs: Annotated[list[ProofShape], Meta(description="a list of proofs")] = []
    pins: Annotated[list[PinShape], Meta(description="a list of pins")] = []
    recipe: Annotated[RecipeShape, Meta(description="a recipe")] | None = None
    processor: Annotated[ProcessorShape, Meta(description="an object with named keys")] = field(
        default_factory=ProcessorShape
    )
    bench: Annotated[BenchShape, Meta(description="an object with named keys")] = field(default_factory=BenchShape)


class FirstShape(FilterShape, forbid_unknown_fields=True, kw_only=True):
    """A whole file of version 1."""

    format: Any = None
    version: Any = None
    name: Text | None = None


class ProjectShape(Struct, forbid_unknown_fields=True):
    """The whole file."""

    filters: Annotated[
        list[FilterShape], Meta(max_length=MOST_FILTERS, description=f"a list of at most {MOST_FILTERS} filters")
    ]
    format: Any = None
    version: Any = None
    name: Text | None = None
