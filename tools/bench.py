"""Measures, prints a table, writes bench.json. Ratios are taken within one run."""

from __future__ import annotations

import json
import os
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

from combe.values import replace

if TYPE_CHECKING:
    from combe.project.document import Project

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")  # as the command does
ROOT = Path(__file__).resolve().parent.parent
RECORD = Path(tempfile.gettempdir()) / f"combe-bench-{os.getuid()}.json"
RESULTS: dict[str, dict[str, Any]] = {}

FIRST_FRAME = """
import time; t = time.perf_counter()
import gc; gc.disable()
import sys; sys.setswitchinterval(0.0001)
from PyQt6.QtWidgets import QApplication
from combe.app.session import Session
from combe.app.settings import Settings
from combe.app.theme.palette import THEME
from combe.app.window import MainWindow
from combe.project.demo import demo_project
a = QApplication([]); a.setStyle("Fusion"); THEME.use("light", a)
s = Session(demo_project()); w = MainWindow(s, Settings()); w.show(); s.start(); w.grab()
print(time.perf_counter() - t)
while s.results.ideal is None: a.processEvents(); time.sleep(0.001)
a.processEvents(); w.grab(); print(time.perf_counter() - t)
s.saved = s.project; w.close()
"""


def note(name: str, value: float, unit: str, what: str) -> None:
    """Record one result."""
    RESULTS[name] = {"value": round(value, 6), "unit": unit, "what": what}
    print(f"{name:34} {value:12.4f} {unit:10} {what}", flush=True)


def median_ms(run: Callable[[], object], count: int = 7) -> float:
    """Median time in milliseconds."""
    times = []
    for _ in range(count):
        started = time.perf_counter()
        run()
        times.append(1e3 * (time.perf_counter() - started))
    return statistics.median(times)


def designs() -> None:
    """Shortest equiripple designs of growing length."""
    from combe.designing.methods import design
    from combe.requirement.presets import shape
    from tests.support import asked

    shape("lowpass", 1.0)
    lengths, times = [], []
    for width in (0.1, 0.04, 0.015, 0.006, 0.0025):
        requirement = asked(2, (0, 0.3, -0.1, 0.1), (0.3 + width, 1, -60))
        found = design(requirement)
        spent = median_ms(lambda requirement=requirement: design(requirement), 3)  # type: ignore[misc]
        lengths.append(found.order + 1)
        times.append(spent)
        note(f"shortest_{found.order + 1}_taps", spent, "ms", "least length that keeps a lowpass, search included")
    from math import log

    growth = log(times[-1] / times[1]) / log(lengths[-1] / lengths[1])
    note("design_growth", growth, "exponent", f"time against length from {lengths[1]} to {lengths[-1]} taps")


def races() -> None:
    """All contenders of five typical requirements, from start to last: all that a race needs is loaded by the first."""
    from combe.designing.contenders import contenders
    from tests.test_contenders import TYPICAL

    names = ("first", "lowpass", "highpass", "bandpass", "bandstop", "multiband")
    for name, requirement in zip(names, (TYPICAL[0], *TYPICAL)):
        started = time.perf_counter()
        found = list(contenders(requirement))
        kept = sum(1 for contender in found if contender.keeps)
        spent = time.perf_counter() - started
        note(f"contenders_{name}", spent, "s", f"{len(found)} methods tried, {kept} keep it")


def classics() -> None:
    """Least-order searches of the classics, the sections' true extremes included."""
    from combe.designing.methods import design
    from combe.responses import worst_points
    from combe.responses.extremes import _grid
    from tests.support import asked

    for name, bands in (
        ("elliptic", ((0, 0.3, -0.1, 0.1), (0.4, 1, -60))),
        ("elliptic_sharp", ((0, 0.2, -0.01, 0.01), (0.2000004, 0.5, -160))),
        ("butterworth", ((0, 0.3, -0.1, 0.1), (0.4, 1, -60))),
    ):
        requirement = asked(1 if "sharp" in name else 2, *bands)
        found = design(requirement, name.split("_")[0])

        def run(requirement: object = requirement, name: str = name) -> None:
            worst_points.cache_clear()
            _grid.cache_clear()
            design(requirement, name.split("_")[0])  # type: ignore[arg-type]

        spent = median_ms(run, 5)
        note(name, spent, "ms", f"least order search, order {found.order}")


def runs() -> None:
    """The bit-true model against the same filter in floating point."""
    import numpy as np

    from combe.designing.methods import design
    from combe.rounding.realize import Choices, realize
    from combe.running.simulate import simulate
    from tests.support import LOWPASS

    filter_ = design(LOWPASS, "equiripple", 63).filter
    made = realize(filter_, 2.0, Choices())
    samples = np.random.default_rng(1).integers(-32768, 32768, 1_000_000)
    exact = median_ms(lambda: simulate(made, samples), 3)
    plain = median_ms(lambda: np.convolve(samples.astype(float), np.array(filter_.taps)), 3)  # type: ignore[union-attr]
    note("bit_true_64_taps", exact / 1e3, "s", "one million samples through 64 taps, exact")
    from combe.rounding.realize import realize as to_integers

    sections = design(LOWPASS, "elliptic", 8).filter
    four = to_integers(sections, 2.0, Choices())
    simulate(four, samples[:30_000])
    spent = median_ms(lambda: simulate(four, samples), 3)
    note("bit_true_4_sections", spent / 1e3, "s", "one million samples through four sections, exact, after a warm-up")
    for structure in ("transposed-2", "lattice"):
        form = to_integers(sections, 2.0, Choices(structure=structure))
        simulate(form, samples[:30_000])
        taken = median_ms(lambda form=form: simulate(form, samples), 3)  # type: ignore[misc]
        note(f"bit_true_{structure}", taken / 1e3, "s", f"one million samples through four sections, {structure}")
        from combe.analysis.measured import exact_run

    program = four.program
    reals = samples.astype(float)
    exact_run(program, reals[:30_000])
    floating = median_ms(lambda: exact_run(program, reals), 3)
    note("bit_true_sections_ratio", spent / floating, "×", "four sections; the same equations in floating point = 1")
    note("bit_true_ratio", exact / plain, "×", "the same filter in floating point = 1")


def arithmetic() -> None:
    """What the arithmetic pages work out: bounds, noise, proofs, adder graphs."""
    import random

    from combe.analysis.bounds import bounds
    from combe.analysis.certified import certified_lines
    from combe.analysis.noise import predicted_noise
    from combe.designing.methods import design
    from combe.rounding.realize import Choices, realize, rounded_lines
    from combe.rounding.search.adders import adder_graph
    from combe.rounding.widths import width_chart
    from tests.support import asked

    low = asked(48_000, (0, 8000, -0.1, 0.1), (10_000, 24_000, -60))
    sections, taps = design(low, "elliptic").filter, design(low, "equiripple").filter
    made, fir = realize(sections, 48_000, Choices(16, "lattice")), realize(taps, 48_000, Choices(17))
    note("realize_lattice_ms", median_ms(lambda: realize(sections, 48_000, Choices(16, "lattice"))), "ms", "order 7")
    note("bounds_ms", median_ms(lambda: bounds(made)), "ms", "largest values of an order-7 lattice, roundings included")
    note("noise_ms", median_ms(lambda: predicted_noise(made)), "ms", "its output noise, predicted")
    for name, one in (("sections", made), ("taps", fir)):
        lines = rounded_lines(one, low)
        spent = median_ms(lambda one=one, lines=lines: certified_lines(one, low, lines))  # type: ignore[misc]
        note(f"certified_{name}_ms", spent, "ms", f"three margins proved, {name}")
    note(
        "chart_s",
        median_ms(lambda: list(width_chart(sections, low, Choices())), 1) / 1e3,
        "s",
        "all structures, all widths",
    )
    source = random.Random(1)
    constants = [source.randint(-4096, 4096) for _ in range(20)]
    graph = adder_graph(constants)
    note(
        "adder_graph_ms",
        median_ms(lambda: adder_graph(constants)),
        "ms",
        f"20 constants of 12 bits: {len(graph.adders)} adders",
    )


def processors() -> None:
    """Instructions of generated C on an emulated Cortex-M4 and a 32-bit RISC-V core, against the loops written by hand."""
    on_core("m4", "cortex-m4", (("hand", False), ("portable", True), ("intrinsics", False)))
    on_core("rv32", "rv32imac", (("hand", False), ("portable", False)))


def on_core(short: str, core: str, kinds: tuple[tuple[str, bool], ...]) -> None:
    """The same filters on one core."""
    from pathlib import Path as Place

    from combe.delivery.c import c_package
    from combe.delivery.package import Package, SourceFile
    from combe.designing.methods import design
    from combe.proof.cores import prove_on_target
    from combe.realization.section import Section
    from combe.rounding.realize import Choices, realize
    from tests.support import asked

    low = asked(48_000, (0, 8000, -0.1, 0.1), (10_000, 24_000, -60))
    for taps in (16, 64, 256):
        made = realize(design(low, "equiripple", taps - 1).filter, 48_000, Choices(16, "direct"))
        package = c_package(made, "calls")
        by_hand = (Place(__file__).parent / "by_hand.c").read_text(encoding="utf-8")
        table = ", ".join(str(value) for value in made.stages[0].coefficients)  # type: ignore[union-attr]
        shift = made.stages[1].source.fraction - 15  # type: ignore[union-attr]
        text = by_hand.replace("@COUNT@", str(taps)).replace("@TAPS@", table).replace("@SHIFT@", str(shift))
        header = package.text(".h")
        start, stop = header.index("typedef struct {"), header.index("} calls_state_t;")
        plain = header[:start] + f"typedef struct {{ int16_t history[{taps}]; size_t at; " + header[stop:]
        hand = Package("c", "calls", (SourceFile("calls.h", plain), SourceFile("calls.c", text)))
        for name, portable in kinds:
            proof = prove_on_target(hand if name == "hand" else package, made, core, portable)
            if not proof.holds and name != "hand":
                print(proof.sentence())
                return
            for block, count in proof.instructions.items():
                if block in (1, 64, 256):
                    note(
                        f"{short}_{taps}_taps_block_{block}_{name}",
                        count / taps,
                        "per tap",
                        f"instructions, {core}, -O2",
                    )
    sections = realize(design(low, "elliptic", 8).filter, 48_000, Choices(16))
    package = c_package(sections, "calls")
    text = (Place(__file__).parent / "by_hand_sections.c").read_text(encoding="utf-8")
    own = [stage for stage in sections.stages if isinstance(stage, Section)]
    rows = []
    for stage, source in zip(own, sections.formats()):
        u, v = stage.shifts(source)
        rows.append(
            "{ " + ", ".join(str(value << shift) for value, shift in zip((*stage.b, *stage.a), (u, u, u, v, v))) + " }"
        )
    shifts = ", ".join(str(stage.accumulator.fraction - stage.result.fraction) for stage in own)
    text = text.replace("@COUNT@", str(len(own))).replace("@FACTORS@", ", ".join(rows)).replace("@SHIFTS@", shifts)
    header = package.text(".h")
    start, stop = header.index("typedef struct {"), header.index("} calls_state_t;")
    plain = header[:start] + f"typedef struct {{ int32_t delays[{len(own)}][4]; " + header[stop:]
    hand = Package("c", "calls", (SourceFile("calls.h", plain), SourceFile("calls.c", text)))
    for name, portable in kinds:
        count = prove_on_target(hand if name == "hand" else package, sections, core, portable).instructions.get(256)
        if count is not None:
            note(
                f"{short}_section_{name}",
                count / len(own),
                "each",
                "instructions of one section, direct form I, blocks of 256",
            )


TIMED = """
#include "calls.h"
#include <stdio.h>
#include <time.h>
static calls_in_t x[65536];
static calls_out_t y[65536];
static calls_state_t state;
int main(void)
{
    double best = 1e9;
    unsigned seed = 1;
    for (int i = 0; i < 65536; i++) { seed = seed * 1664525u + 1013904223u; x[i] = (calls_in_t)(((int)(seed >> 16) - 32768) * SCALE); }
    calls_reset(&state);
    for (int r = 0; r < 60; r++) {
        struct timespec a, b;
        clock_gettime(CLOCK_MONOTONIC, &a);
        for (int k = 0; k < 65536; k += 256) { calls_run(&state, x + k, y + k, 256); }
        clock_gettime(CLOCK_MONOTONIC, &b);
        double t = (double)(b.tv_sec - a.tv_sec) + 1e-9 * (double)(b.tv_nsec - a.tv_nsec);
        if (t < best) { best = t; }
    }
    printf("%.3f\\n", 65536 / best / 1e6);
    return 0;
}
"""


def rates() -> None:
    """Plans of changes of rate, searched afresh; and 64 designed taps of 16 bits on an emulated Cortex-M4 beside a plain filter of as many."""
    from combe.delivery.c import c_package
    from combe.designing.methods import design_task
    from combe.designing.rates import making
    from combe.designing.rates.chain import planned
    from combe.designing.task import DesignChoice, Task
    from combe.proof.cores import prove_on_target
    from combe.requirement import Band, Limit, Requirement
    from combe.requirement.rates import RateChange
    from combe.rounding.rates import realize_stages
    from combe.rounding.realize import Choices, realize

    def brief(up: int, down: int, level: float) -> Requirement:
        low = 500.0 * min(up, down) if up > 1 and down > 1 else 500.0
        passband = Band("pass", 0.0, 0.8 * low, Limit.level(0.05, 0, 0.8 * low), Limit.level(-0.05, 0, 0.8 * low))
        rate = RateChange(up, down, -level if down > 1 else None, -level if up > 1 else None)
        return Requirement("r", 1000.0 * up * down, (passband,), "linear", rate=rate)

    planned(brief(3, 2, 60))
    for up, down in ((1, 8), (160, 147), (441, 640), (1023, 1024), (1, 1024), (1024, 1)):
        for each in (making._kept, making._all_but_last, making._last_stage):
            each.cache_clear()
        started = time.perf_counter()
        found = planned(brief(up, down, 90))
        spent = time.perf_counter() - started
        note(
            f"plan_{up}_{down}",
            spent,
            "s",
            f"{up}/{down} with 90 dB: {' '.join(stage.words for stage in found.stages)}",
        )
    for up, down, level in ((147, 160, 90), (1023, 1024, 90), (640, 441, 100)):
        started = time.perf_counter()
        found = planned(brief(up, down, level), "farrow")
        spent = time.perf_counter() - started
        words = " ".join(stage.words for stage in found.stages)
        note(f"plan_{up}_{down}_farrow", spent, "s", f"{up}/{down} with {level} dB, polynomials: {words}")
    plain = 0.0
    for up, down in ((1, 1), (1, 8), (4, 1), (2, 1), (3, 2)):
        asked = brief(up, down, 60) if up * down > 1 else None
        low = asked or _plain_lowpass()
        filter_ = design_task(Task(low, low.sample_rate_hz, DesignChoice("equiripple", 63)))
        made = realize_stages(filter_, Choices(16)) if asked else realize(filter_.filter, 48_000, Choices(16))
        count = prove_on_target(c_package(made, "calls"), made).instructions[256] / (64 / down)
        plain = plain or count
        note(
            f"m4_rate_{up}_{down}",
            count / plain,
            "×",
            f"instructions a multiply, {up}/{down}; a plain filter's {plain:.2f} = 1",
        )


def _plain_lowpass() -> Any:
    from tests.support import asked

    return asked(48_000, (0, 8000, -0.1, 0.1), (10_400, 24_000, -60))


def host() -> None:
    """Millions of samples a second of generated C on this processor, -O2, blocks of 256."""
    from combe.delivery.c import c_package
    from combe.delivery.code_choices import CodeChoices
    from combe.designing.methods import design
    from combe.rounding.realize import Choices, realize
    from tests.support import asked

    low = asked(48_000, (0, 3000, -0.1, 0.1), (5_000, 24_000, -60))
    mid = asked(48_000, (0, 8000, -0.1, 0.1), (10_000, 24_000, -60))
    taps = realize(design(low, "equiripple", 63).filter, 48_000, Choices(16, "direct"))
    four = realize(design(mid, "elliptic", 8).filter, 48_000, Choices(16))
    for name, made in (("64_taps", taps), ("4_sections", four)):
        for number in ("integer", "single"):
            package = c_package(made, "calls", choices=CodeChoices(number=number))
            with tempfile.TemporaryDirectory() as place:
                package.write(place)
                (Path(place) / "timed.c").write_text(TIMED, encoding="utf-8")
                scale = "-DSCALE=1" if number == "integer" else "-DSCALE=3e-5f"
                words = ["gcc", "-O2", "-std=gnu99", scale, "-o", "timed", "timed.c", "calls.c"]
                subprocess.run(words, cwd=place, check=True)
                said = subprocess.run(["./timed"], cwd=place, check=True, capture_output=True, text=True).stdout
            note(f"host_{name}_{number}", float(said), "MS/s", "generated C on this processor, -O2, blocks of 256")


def response() -> None:
    """A true extreme against one FFT of the same grid."""
    import numpy as np

    from combe.designing.methods import design
    from combe.requirement import Limit
    from combe.responses import worst_point, worst_points
    from combe.responses.extremes import _grid
    from tests.support import BAT

    filter_ = design(BAT).filter

    def extreme() -> None:
        worst_points.cache_clear()
        _grid.cache_clear()
        worst_point(filter_, 250_000.0, Limit.level(-60, 0, 12_000), 1)

    taps = np.array(filter_.taps)  # type: ignore[union-attr]
    fft = median_ms(lambda: np.fft.rfft(taps, 4096), 30)
    from combe.responses import frequency_response

    omega = np.linspace(0, np.pi, 2049)
    plain = median_ms(lambda: frequency_response(filter_, omega), 15)
    note("response_ratio", plain / fft, "×", "response at 2049 freely chosen frequencies; one FFT of that grid = 1")
    note("extreme_ratio", median_ms(extreme, 15) / fft, "×", "true extreme of one band; one FFT of its scan = 1")


def dragging() -> None:
    """From the hand's move to the painted plot: real mouse events on the real window."""
    from hand import demo_with

    from combe.project.document import DesignChoice
    from tests.support import asked

    low = asked(250_000, (0, 38_000, -0.1, 0.1), (50_000, 125_000, -60))
    drag("drag", demo_with(requirement=low, design=DesignChoice()), "the least length searched each time")
    drag("drag_63", demo_with(requirement=low, design=DesignChoice(order=62)), "63 taps held")
    drag("drag_demo", demo_with(), "the demo's own 113 taps")


def drag(name: str, project: Project, what: str) -> None:
    """Thirty moves of the first band's upper edge, each until its filter is painted, everything on screen."""
    from hand import Hand, as_the_application, edge, idle, opened, timed

    as_the_application()
    with opened(project) as (window, paints):
        plots = window.plots.magnitude
        hand = Hand(window, paints, edge(window, 0, "stop"))
        for _ in range(5):
            hand.move(-2)
        rows, repaints = [], []
        for step in range(30):
            # Never where it has been: what was worked out there is remembered.
            rows.append(hand.move(3 if step % 2 else -5))
            idle(hand.app, 0.01)
            # In between, so that both are taken at the same pace of the machine.
            repaints += timed(lambda: (plots.main.viewport().repaint(), plots.loupe.viewport().repaint()), 2)
        hand.release()
    bare = statistics.median(repaints)
    known, painted, painting = (statistics.median(column) for column in zip(*rows))
    late = sorted(row[1] for row in rows)[28]
    note(f"{name}_to_filter", known, "ms", f"a dragged edge to its filter, rounded, analyzed: {what}")
    note(f"{name}_painting", painting, "ms", "of that painting, every plot that changed")
    note(f"{name}_to_picture", painted, "ms", "a dragged edge to the painted plot")
    note(f"{name}_to_picture_95", late, "ms", "the same, 95 of 100 moves")
    note(f"{name}_ratio", painted / bare, "×", f"move to picture; a bare repaint of the same plots ({bare:.1f} ms) = 1")


def steady() -> None:
    """A hand that moves on without a rest, as a mouse tells of it: how often a filter is painted, by a method that is quick and by others."""
    from hand import Hand, as_the_application, demo_with, edge, opened

    from combe.project.document import DesignChoice

    cases = {
        "demo": (8, None),
        "demo_1000_hz": (1, None),
        "kaiser": (8, DesignChoice("kaiser")),
        "elliptic": (8, DesignChoice("elliptic")),
        "optimized": (8, DesignChoice("optimized-iir")),
    }
    name = sys.argv[-1]
    if name not in cases:  # a window in a process each: none meets another's work
        for each in cases:
            subprocess.run([sys.executable, __file__, "steady", each], cwd=ROOT, check=True)
            RESULTS.update(json.loads(RECORD.read_text(encoding="utf-8")))
        return
    every_ms, choice = cases[name]
    as_the_application()
    with opened(demo_with() if choice is None else demo_with(design=choice)) as (window, paints):
        hand = Hand(window, paints, edge(window, 0, "stop"))
        hand.steadily(1, every_ms)
        gaps = hand.steadily(4, every_ms)
        hand.release()
    what = f"from filter to filter on the screen while the hand moves every {every_ms} ms"
    note(f"steady_{name}", statistics.median(gaps), "ms", f"{what}; {max(gaps):.0f} ms at most")


def drafts() -> None:
    """Designs alone under a hand, method by method: an edge of the demo moved a little each time, each from the last."""
    from combe.designing.equiripple import exchange
    from combe.designing.methods import design_task
    from combe.designing.task import DesignChoice, Task
    from combe.project import edits
    from combe.project.demo import demo_project

    exchange.make_ready()
    for method in (
        "equiripple",
        "kaiser",
        "dolph-chebyshev",
        "hann-window",
        "least-squares",
        "butterworth",
        "elliptic",
    ):
        project = replace(demo_project(), design=DesignChoice(method))
        near = design_task(Task(project.requirement, 250_000, project.design))
        times = []
        for _ in range(12):
            project = edits.move_edge(project, 0, "stop", project.requirement.bands[0].stop_hz - 37).make(project)
            started = time.perf_counter()
            near = design_task(Task(project.requirement, 250_000, project.design, near=near, is_draft=True))
            times.append(1e3 * (time.perf_counter() - started))
        name = method.replace("-", "_")
        note(
            f"draft_{name}",
            statistics.median(times),
            "ms",
            f"a draft of the demo by {method}, order {near.filter.order}",
        )


def thread() -> None:
    """The longest events on the interface thread, whatever is done."""
    from hand import Clocked, Hand, application, as_the_application, demo_with, edge, idle, opened

    app = application(Clocked)
    assert isinstance(app, Clocked)
    as_the_application()
    with opened(demo_with()) as (window, paints):
        slowest(window, app)
        window.plots.open_tab("magnitude")
        idle(app, 0.3)
        hand = Hand(window, paints, edge(window, 0, "stop"))
        app.longest = 0.0
        for _ in range(30):
            hand.move(-1)
            idle(app, 0.01)
        note("thread_dragging", 1e3 * app.longest, "ms", f"an edge is dragged: the longest was {app.worst}")
        app.longest = 0.0
        hand.release()
        idle(app, 2.0)
        note("thread_released", 1e3 * app.longest, "ms", f"and let go, all else following: the longest was {app.worst}")


def long_signals() -> None:
    """The longest events on the interface thread with a million samples on the bench, each view below looked at and dressed anew."""
    from hand import Clocked, application, as_the_application, demo_with, idle, opened

    from combe.app.picture import settle
    from combe.project import edits

    app = application(Clocked)
    assert isinstance(app, Clocked)
    as_the_application()
    signal = "modulated points 16 symbols 3 kHz 9 kHz -12 dB + white -70 dB"
    with opened(demo_with()) as (window, _):
        session = window.session
        session.edit(edits.set_bench(edits.with_bench(session.project.bench, signal=signal, samples=1_000_000)))
        window.open_step("bench")
        settle(session)
        below = window.bench_page.view.below
        looks = {
            name: lambda name=name: below.show_view(name)
            for name in ("spectrogram", "histogram", "constellation", "spectra")
        }
        for name, look in (looks | {"theme": lambda: window.dress("dark")}).items():
            app.longest = 0.0
            started = time.perf_counter()
            look()
            spent = time.perf_counter() - started
            idle(app, 0.3)
            settle(session)
            idle(app, 0.3)
            worst = 1e3 * max(spent, app.longest)
            note(
                f"thread_long_{name}",
                worst,
                "ms",
                f"a million samples: the longest stretch on the interface thread ({name})",
            )


def screen() -> None:
    """The same hand, window and theme on an X server's screen, where there is one."""
    from tests.screens import has_server, screen

    if not has_server():
        print("Xvfb isn't on this machine: nothing measured on its screen")
        return
    with screen() as environment:
        for name in ("dragging", "thread"):
            subprocess.run(
                [sys.executable, __file__, name], cwd=ROOT, env=environment, check=True, stdout=subprocess.DEVNULL
            )
            for key, row in json.loads(RECORD.read_text(encoding="utf-8")).items():
                note(f"{key}_on_x", row["value"], row["unit"], row["what"])


def slowest(window: Any, app: Any) -> None:
    """When theme, step and page change."""
    from hand import idle

    from combe.app.pages.register import REGISTER
    from combe.project.document import STEPS

    ways: dict[str, list[Callable[[], None]]] = {
        "theme": [lambda: window.dress("dark"), lambda: window.dress("light")],
        "step": [lambda step=step: window.open_step(step) for step in (*STEPS, "ideal")],
    }
    for entry in REGISTER:
        if entry.name in window.plots.buttons:
            ways[f"page {entry.name}"] = [lambda name=entry.name: window.plots.open_tab(name)]
    for name, moves in ways.items():
        for turn in ("first", "later"):
            worst, what = 0.0, ""
            for move in moves:
                app.longest = 0.0
                started = time.perf_counter()
                move()
                spent = 1e3 * (time.perf_counter() - started)
                idle(app, 0.4)
                if max(spent, 1e3 * app.longest) > worst:
                    worst = max(spent, 1e3 * app.longest)
                    what = "the call itself" if spent > 1e3 * app.longest else app.worst
            note(
                f"thread_{name.replace(' ', '_')}_{turn}",
                worst,
                "ms",
                f"the longest stretch on the interface thread, {turn} ({what})",
            )


def frames() -> None:
    """Panning ten pinned responses of 300 taps at 3840x2160."""
    from PyQt6.QtWidgets import QApplication

    from combe.app.picture import settle
    from combe.app.session import Session
    from combe.app.settings import Settings
    from combe.app.theme.palette import THEME
    from combe.app.window import MainWindow
    from combe.designing.methods import design
    from combe.project.demo import demo_project
    from combe.project.document import Pin
    from tests.support import asked

    application = QApplication.instance() or QApplication([])
    assert isinstance(application, QApplication)
    application.setStyle("Fusion")
    THEME.use("light", application)
    pins = []
    for k in range(10):
        low = asked(250_000, (0, 20_000 + 2000 * k, -0.1, 0.1), (23_000 + 2000 * k, 125_000, -60))
        pins.append(Pin(f"pin {k}", design(low, "equiripple", 299).filter))
    session = Session(replace(demo_project(), pins=tuple(pins)))
    window = MainWindow(session, Settings())
    window.resize(3840, 2160)
    window.show()
    session.start()
    settle(session)
    main_plot = window.plots.magnitude.main
    box = main_plot.view
    times = []
    for k in range(30):
        started = time.perf_counter()
        box.setXRange(1000 * k, 60_000 + 1000 * k, padding=0)
        main_plot.viewport().repaint()
        times.append(1e3 * (time.perf_counter() - started))
    note(
        "pan_4k_10_pins",
        statistics.median(times[5:]),
        "ms",
        "one frame: 12 curves of 300 taps evaluated anew and painted",
    )
    session.saved = session.project
    window.close()


def start() -> None:
    """A fresh process to its first frame, and to the first filter drawn."""
    times = []
    for _ in range(4):
        done = subprocess.run([sys.executable, "-c", FIRST_FRAME], capture_output=True, text=True, check=True, cwd=ROOT)
        times.append([float(line) for line in done.stdout.split()])
    note("first_frame", statistics.median(t[0] for t in times[1:]), "s", "import to the first frame of the window")
    note("first_filter", statistics.median(t[1] for t in times[1:]), "s", "import to the demo filter drawn")


def commands() -> None:
    """Whole processes: the processor time of a command from nothing."""
    import resource
    import tempfile

    import combe
    from tests.support import asked

    low = asked(48_000, (0, 8000, -0.1, 0.1), (10_500, 24_000, -60))
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "low.json"
        combe.save(low, path)
        for name, words in (
            ("help", ["--help"]),
            ("version", ["--version"]),
            ("methods", ["methods"]),
            ("design", ["design", str(path), "--method", "equiripple", "--json"]),
        ):
            times = []
            for _ in range(5):
                before = resource.getrusage(resource.RUSAGE_CHILDREN)
                subprocess.run([sys.executable, "-m", "combe", *words], capture_output=True, check=True, cwd=ROOT)
                after = resource.getrusage(resource.RUSAGE_CHILDREN)
                times.append(after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime)
            note(f"command_{name}", statistics.median(times), "s", f"combe {words[0]}, processor time of the process")


def main() -> int:
    """All of them, or those named, each in a process of its own: none finds what another has warmed up or left."""
    sys.path.insert(0, str(ROOT))
    parts = (
        commands, designs, classics, races, runs, arithmetic, processors, rates, host, response, start, dragging, steady, drafts, thread, long_signals, screen,
        frames,
    )  # fmt: skip
    names = [part.__name__ for part in parts]
    wanted = [name for name in sys.argv[1:] if name in names]
    if len(wanted) == 1:
        parts[names.index(wanted[0])]()
        RECORD.write_text(json.dumps(RESULTS), encoding="utf-8")
        sys.stdout.flush()
        # Not through the interpreter's end: an application that times its events in Python is asked for more of them there.
        os._exit(0)
    every: dict[str, dict[str, Any]] = {}
    for name in wanted or names:
        done = subprocess.run([sys.executable, __file__, name], cwd=ROOT, check=False)
        if done.returncode:
            return done.returncode
        every |= json.loads(RECORD.read_text(encoding="utf-8"))
    RECORD.unlink(missing_ok=True)
    if not wanted:
        (ROOT / "bench.json").write_text(json.dumps(every, indent=1, ensure_ascii=False) + "\n", encoding="utf-8")
    return 0


if __name__ == "__main__":
    sys.exit(main())
