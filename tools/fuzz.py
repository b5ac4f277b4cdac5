"""Damaged files and strange words for every verb: no traceback, no fault, nothing over ten seconds.

    tools/fuzz.py [CASES] [--seed N]        what make fuzz runs: 10,000 cases, told in a line each where one fails

Mutations know the files: keys renamed, values replaced by others of every kind, numbers pushed to their ends, pieces of one
file put into another, bytes changed, texts cut. The same seed makes the same cases everywhere.
"""

from __future__ import annotations

import contextlib
import copy
import io
import json
import os
import random
import resource
import signal
import sys
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

sys.path.insert(0, str(Path(__file__).parent.parent))

from combe.cli import run_verb

SLOW_S, HUNG_S, MOST_MB = 10.0, 90.0, 500
"""Seconds of the processor a case may take, and of the clock, on a machine that has other things to do."""
ODD: tuple[Any, ...] = (
    None, True, False, 0, -1, 1, 2, 5, 1e-300, 1e300, -1e308, 10**30, 0.1, "", "x", "s16f15", "u1f-400", "s99f3", "\ud800", "=1+1",
    "../../etc", "a" * 300, "é", [], [0], [[0, 1]], {}, {"format": "combe-design"}, [None], [[[]]], "1e400", "NaN", -0.0, 65536, 1e6,
)  # fmt: skip
LOW = {"format": "combe-requirement", "version": 1, "name": "probe", "sample_rate_hz": 160,
       "bands": [{"name": "weight", "start_hz": 0, "stop_hz": 10, "min_db": -0.5, "max_db": [[0, 0.5], [10, 0.4]]},
                 {"name": "hum", "start_hz": 25, "stop_hz": 80, "max_db": -40}], "phase": "any", "max_delay_s": 1}  # fmt: skip
DOWN = {"format": "combe-requirement", "version": 1, "name": "slower", "sample_rate_hz": 1600, "rate": {"down": 8, "alias_db": -50},
        "bands": [{"name": "weight", "start_hz": 0, "stop_hz": 40, "min_db": -0.5, "max_db": 0.5}]}  # fmt: skip
TEXTS = (
    "0.5\n0.25\n0.25\n",
    "b = {1, 2, 1}\na = {1, -0.5}\n",
    "0x7fff 0x8000 0001\n",
    "1/7 x7\n",
    "zeros = 1j, -1j\npoles = 0.5\ngain = 2\n",
)


SIGNAL = {
    "format": "combe-signal", "version": 1, "sample_rate_hz": 160, "samples": 400, "seed": 3,
    "parts": [{"kind": "sine", "hz": 9, "dbfs": -12, "phase_deg": 10}, {"kind": "chirp", "start_hz": 0.5, "stop_hz": 60, "law": "logarithmic"},
              {"kind": "modulated", "points": 16, "symbol_rate_hz": 8, "carrier_hz": 40, "dbfs": -20}, {"kind": "survey", "name": "roost", "dbfs": -6},
              {"kind": "maximum-length", "bits": 7, "dbfs": -30}, {"kind": "step", "at": 30, "dbfs": -20}, {"kind": "white", "dbfs": -50}],
}  # fmt: skip


class Slow(BaseException):
    """A case took too long."""


def seeds(folder: Path) -> dict[str, str]:
    """Good files of every kind, made by the program itself."""
    place = {
        name: folder / f"seed-{name}.json"
        for name in ("req", "fir", "iir", "real", "sections", "project", "path", "signal", "down", "chain", "decimator")
    }
    place["req"].write_text(json.dumps(LOW))
    place["down"].write_text(json.dumps(DOWN))
    words = (
        ("design", str(place["req"]), "--method", "equiripple", "--out", str(place["fir"])),
        ("design", str(place["req"]), "--method", "elliptic", "--out", str(place["iir"])),
        ("realize", str(place["fir"]), "--out", str(place["real"])),
        ("realize", str(place["iir"]), "--out", str(place["sections"])),
        ("design", str(place["down"]), "--plan", "cic4x2", "--out", str(place["chain"])),
        ("realize", str(place["chain"]), "--out", str(place["decimator"])),
    )
    for each in words:
        assert quietly(each)[0] == 0, each
    from combe.files import json_text
    from combe.project.demo import demo_project, recorder_project
    from combe.project.file import project_document

    first = project_document(demo_project())
    # A file of version 1, and one of today with a tree of filters, variants and a bench.
    place["project"].write_text(json_text({"format": "combe-project", "version": 1, "name": "x"} | first["filters"][0]))
    place["path"].write_text(json_text(project_document(recorder_project())))
    place["signal"].write_text(json.dumps(SIGNAL))
    found = {name: path.read_text() for name, path in place.items()}
    return found | {f"text{k}": text for k, text in enumerate(TEXTS)}


def quietly(words: tuple[str, ...]) -> tuple[int, str, str]:
    """A verb with its streams caught."""
    out, err = io.StringIO(), io.StringIO()
    with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
        status = run_verb(list(words))
    return status, out.getvalue(), err.getvalue()


def places(document: Any, above: tuple[Any, ...] = ()) -> Iterator[tuple[Any, ...]]:
    """The way to every value of a document."""
    yield above
    items = (
        document.items() if isinstance(document, dict) else enumerate(document) if isinstance(document, list) else ()
    )
    for key, value in items:
        yield from places(value, (*above, key))


def mutated(draw: random.Random, text: str, other: str) -> str:
    """A file with one to four things wrong."""
    try:
        document = json.loads(text)
    except ValueError:
        document = None
    for _ in range(draw.choice((1, 1, 2, 4))):
        if document is None or draw.random() < 0.12:
            text = text if document is None else json.dumps(document)
            document = None
            at, size = draw.randrange(len(text) + 1), draw.choice((0, 1, 3, 40))
            piece = draw.choice(
                ("", "\0", "9" * 400, "\ufeff", "[" * 50, '"', "1e999", other[:60], "é\u2028", "-", ",,", "x" * 2000)
            )
            text = text[:at] + piece + text[at + size :]
            continue
        ways = [way for way in places(document) if way]
        if not ways:
            break
        *above, last = draw.choice(ways)
        holder = document
        for key in above:
            holder = holder[key]
        kind = draw.random()
        if kind < 0.55:
            holder[last] = copy.deepcopy(draw.choice(ODD))
        elif kind < 0.7:
            del holder[last]
        elif kind < 0.8 and isinstance(holder, dict):
            holder[draw.choice(("x", "", "taps", "sections", "b", "a", "bands", "stages", "rate"))] = holder.pop(last)
        elif kind < 0.9 and isinstance(holder[last], (int, float)) and not isinstance(holder[last], bool):
            holder[last] = draw.choice(
                (holder[last] * 1e6, -holder[last], holder[last] + 1, holder[last] / 1e9, int(holder[last]) << 40)
            )
        elif isinstance(holder[last], list):
            holder[last] = holder[last] * draw.choice((0, 2, 7))
        else:
            with contextlib.suppress(ValueError):
                holder[last] = json.loads(other)
    return text if document is None else json.dumps(document)


def words_for(draw: random.Random, file: Path, folder: Path, name: str) -> tuple[str, ...]:
    """A verb that might read the file, with options that may make no sense."""
    path, out = str(file), str(folder / "out")
    odd = draw.choice(
        ("0", "-1", "x", "1e9", "", "s8f7", "999999999999", "16", "fewest", "3", "é\udcff", "a" * 200, "nan")
    )
    every: list[tuple[str, ...]] = [
        ("examine", path), ("examine", path, "--json", "--points", draw.choice(("3", odd))),
        ("realize", path, "--coefficient-bits", draw.choice(("8", "14", odd)), "--out", out), ("realize", path, "--input", odd),
        ("realize", path, "--structure", draw.choice(("direct", "lattice", "direct-1", odd)), "--json"),
        ("table", path, "--recipe", draw.choice(("c-array", "plain", odd)), "--to", out),
        ("simulate", path, "--input", str(folder / "samples.txt"), "--output", out),
        ("deliver", path, "--language", draw.choice(("c", "c++", "verilog", "vhdl", odd)), "--to", str(folder / "code"),
         "--name", draw.choice(("probe", odd))),
        ("deliver", path, "--language", draw.choice(("verilog", "vhdl")), "--to", str(folder / "code"), "--architecture",
         draw.choice(("semi-parallel", "serial", "parallel", odd)), draw.choice(("--multipliers", "--clock")), draw.choice(("2", odd))),
    ]  # fmt: skip
    if name in ("req", "down") and odd in ("0", "-1", "x", "", "nan"):
        every += [("race", path, "--target", odd), ("race", path, "--target", "cortex-m4", "--limit", odd)]
    if name in ("req", "project", "down"):
        methods = ("equiripple", "elliptic", "kaiser", "least-squares", "bessel", odd)
        every += 3 * [
            ("design", path, "--method", draw.choice(methods), *draw.choice(((), ("--order", odd), ("--out", out))))
        ]
        every += [
            ("design", path, "--method", "equiripple", "--holds-with-bits", odd),
            ("trade", path, "--method", "elliptic", "--bits", odd),
        ]
    if name == "path":
        one = ("--filter", draw.choice(("calls", "notch", "probe", odd)))
        every = [
            *(words + one for words in every), ("list", path), ("list", path, "--json"), ("path", path, *one), ("path", path, *one, "--points", odd, "--json"),
            ("variants", path, *one), ("simulate", path, *one, "--path", "--input", str(folder / "samples.txt"), "--output", out),
            ("bench", path, *one, "--json"), ("bench", path, *one, "--path", "--signal", "white -20 dB", "--samples", "300"),
            ("check", path, *one, "--jobs", odd) if odd in ("0", "-1", "x", "nan") else ("list", path),
        ]  # fmt: skip
    if name == "signal":
        every = [
            ("bench", str(folder / "seed-fir.json"), "--signal", path, "--json", "--samples", draw.choice(("50", odd)))
        ]
        every += [
            ("bench", str(folder / "seed-fir.json"), "--signal", path),
            ("bench", str(folder / "seed-fir.json"), "--recording", path),
            (
                "board",
                str(folder / "seed-fir.json"),
                "--signal",
                path,
                "--samples",
                "300",
                "--cycles",
                "20",
                draw.choice(
                    ("--block", "--interrupt", "--converter-in", "--converter-out", "--clock", "--fade", "--change-at")
                ),
                odd,
            ),
        ]
    return draw.choice(every)


def run_case(seed: int, case: int, files: dict[str, str], folder: Path) -> str:
    """One case; what is wrong with how it was answered, empty if nothing is."""
    draw = random.Random(f"{seed}:{case}")
    name, other = draw.choice(sorted(files)), draw.choice(sorted(files))
    file = folder / f"case.{draw.choice(('json', 'combe', 'txt'))}"
    file.write_bytes(mutated(draw, files[name], files[other]).encode("utf-8", "surrogatepass"))
    words = words_for(draw, file, folder, name)
    started = time.process_time()
    signal.setitimer(signal.ITIMER_PROF, SLOW_S)
    signal.setitimer(signal.ITIMER_REAL, HUNG_S)
    try:
        status, _, said = quietly(words)
    except Slow:
        return f"over {SLOW_S:g} s of the processor, or {HUNG_S:g} of the clock: {' '.join(words)}"
    except BaseException as fault:
        return f"{type(fault).__name__}: {fault}: {' '.join(words)}"
    finally:
        signal.setitimer(signal.ITIMER_PROF, 0)
        signal.setitimer(signal.ITIMER_REAL, 0)
    if status not in (0, 1, 2):
        return f"status {status}: {' '.join(words)}"
    if "fault in Combe" in said or "Traceback" in said:
        return f"{said.strip()[:200]}: {' '.join(words)}"
    lines = [line for line in said.splitlines() if line.startswith("combe: ")]
    if status == 2 and (len(lines) != 1 or len(lines[0]) > 1000):
        return f"{len(lines)} lines, {max(map(len, lines), default=0)} characters: {' '.join(words)}"
    spent = time.process_time() - started
    return f"{spent:.1f} s" if spent > SLOW_S else ""


def campaign(seed: int, cases: range, keep: Path | None = None) -> list[tuple[int, str]]:
    """Many cases; those that failed, each file kept where asked."""

    def late(*_: object) -> None:
        raise Slow

    for ended in (signal.SIGALRM, signal.SIGPROF):
        signal.signal(ended, late)
    failed = []
    with tempfile.TemporaryDirectory(prefix="combe-fuzz-") as place:
        folder = Path(place)
        (folder / "samples.txt").write_text("1\n-5\n100\n")
        files = seeds(folder)
        for case in cases:
            wrong = run_case(seed, case, files, folder)
            if wrong:
                failed.append((case, wrong))
                print(f"case {seed}:{case}: {wrong}", flush=True)
                for file in folder.glob("case.*") if keep is not None else ():
                    assert keep is not None
                    (keep / f"{seed}-{case}{file.suffix}").write_bytes(file.read_bytes())
            for file in folder.glob("case.*"):
                file.unlink()
    return failed


def main() -> None:
    """Cases over all processors."""
    words = [word for word in sys.argv[1:] if not word.startswith("--")]
    count = int(words[0]) if words else 10_000
    seed = int(sys.argv[sys.argv.index("--seed") + 1]) if "--seed" in sys.argv else int(time.time())
    workers = os.cpu_count() or 1
    children = []
    for worker in range(workers):
        child = os.fork()
        if child == 0:
            failed = campaign(seed, range(worker, count, workers))
            largest = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss >> 10
            if largest > MOST_MB:
                print(f"worker {worker} took {largest} MB")
            os._exit(1 if failed or largest > MOST_MB else 0)
        children.append(child)
    statuses = [os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]) for child in children]
    print(f"{count} cases of seed {seed}: {'all answered in order' if not any(statuses) else 'some failed'}")
    sys.exit(any(statuses))


if __name__ == "__main__":
    main()
