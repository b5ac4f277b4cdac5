"""The command line: one file per verb, one place where errors become a line and an exit status.

Exit status: 0 done and every limit kept, 1 done but a limit is missed or a proof failed, 2 bad input.
"""

from __future__ import annotations

import contextlib
import gc
import io
import os
import sys
from pathlib import Path
from threading import Event
from types import TracebackType

INTERRUPTED, PATIENCE_S = 130, 0.7
GARBAGE = (50_000, 20, 20)
"""Loading makes no garbage to speak of, and looking for it takes a sixth of the time to the first frame: a command seldom looks, a
window not before it stands."""

VERBS = {
    "demo": "The Alder Combe bat survey, in the window or headless.",
    "methods": "List every design method.",
    "design": "Design one filter: the shortest that keeps every limit, or the best of a given order.",
    "contenders": "Line up every method that applies, cheapest first.",
    "race": "Complete realizations, cheapest on a core or a device first.",
    "trade": "Taps against bits: which orders keep every limit at which widths.",
    "examine": "Measure any filter.",
    "realize": "Turn a design into integers that a chip can run.",
    "simulate": "Run a realization bit by bit.",
    "bench": "Send a signal through the filter: exact, rounded, bit-true, compiled, simulated.",
    "board": "Send a signal through a made-up recorder board: buffers, interrupts, deadlines.",
    "capture": "Hold what a circuit on a board heard of itself against the model.",
    "deliver": "Write generated code, and prove it on real tools.",
    "budget": "Instructions on an emulated processor, and the share of its clock they take.",
    "table": "Write coefficients as text, by a recipe.",
    "report": "The whole story of a filter, with figures.",
    "list": "A project's filters, and whether each keeps its brief.",
    "path": "The way from the input to a filter as one: response, delay, cost, and its program.",
    "variants": "A filter as it stands and its variants side by side.",
    "check": "Make what a project exports anew, compare it with what lies there, prove it.",
    "picture": "Draw one of the application's views, off screen.",
}
"""Each verb is a module of this folder; its sentence stands here so that help needs none of them."""


def main() -> None:
    """The entry point ``combe``: a verb, or a file (or nothing) to open in the window."""
    # The matrices of one filter are small, and the window needs the other core: one thread each is fastest. Only the
    # program itself says so; who imports combe keeps the environment as it is.
    os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
    gc.set_threshold(*GARBAGE)
    words = sys.argv[1:]
    if words == ["--version"]:
        from combe import __version__

        sys.exit(_printed(f"combe {__version__}"))
    _prepare_streams()
    _stop_in_order()
    if "_COMBE_COMPLETE" in os.environ or (words and (words[0] in VERBS or words[0].startswith("-"))):
        sys.exit(run_verb(words))
    if words and (len(words) > 1 or not _may_be_file(words[0])):
        sys.exit(_refused(f"{words[0]!r} is neither a verb nor a file; verbs are {', '.join(VERBS)}"))
    from combe.app.start import open_application

    sys.exit(open_application(words[0] if words else None))


def _may_be_file(word: str) -> bool:
    """Whether a single word names a file, there or not, rather than a verb that doesn't exist."""
    path = Path(word)
    return bool(path.suffix) or len(path.parts) > 1 or os.path.lexists(word)


def run_verb(words: list[str]) -> int:
    """Run one verb and return the exit status."""

    try:
        return _run(words)
    except (KeyboardInterrupt, Interrupted):
        _refused("interrupted")
        return INTERRUPTED


class Interrupted(BaseException):
    """We were asked to stop."""


_asked = Event()
"""Set from then on: a library that was loading one of its parts makes a failure of its own of it."""


def _run(words: list[str]) -> int:
    import warnings

    import click

    from combe.cli.root import command
    from combe.errors import CombeError

    # A number that ran out of range shows in the result; the libraries' remarks on it help nobody.
    warnings.simplefilter("ignore", RuntimeWarning)
    try:
        if "_COMBE_COMPLETE" in os.environ:
            from combe.cli.completion import answer

            return answer(command(), {})
        result = command().main(args=words, prog_name="combe", standalone_mode=False)
        sys.stdout.flush()
        return result if isinstance(result, int) else 0
    except CombeError as error:
        return _refused(error.sentence())
    except click.exceptions.NoArgsIsHelpError as error:
        print(error.format_message())
        return 2
    except click.UsageError as error:
        return _refused(" ".join(error.format_message().split()))
    except click.exceptions.Exit as stop:
        return stop.exit_code
    except click.Abort:
        raise KeyboardInterrupt from None
    except SystemExit as stop:
        # The parser's own answer to a reader that left; anything else is passed on.
        if stop.code == 1 and not isinstance(sys.stdout, io.TextIOWrapper):
            _silence_output()
            return 0
        raise
    except BrokenPipeError:
        # Whoever read along has enough; what is left in the buffer goes nowhere.
        _silence_output()
        return 0
    except Exception as fault:
        if _asked.is_set():
            raise Interrupted from None
        if isinstance(fault, OSError) and _is_of_output(fault):
            _silence_output()
            return _refused(f"standard output can't be written ({fault.strerror or fault})")
        from combe.log import log_failure

        return _refused(f"this is a fault in Combe itself, recorded in {log_failure('combe ' + ' '.join(words))}")


def _printed(line: str) -> int:
    """Print a line; the exit status."""
    try:
        print(line, flush=True)
    except BrokenPipeError:
        _silence_output()
    except OSError as error:
        _silence_output()
        return _refused(f"standard output can't be written ({error.strerror or error})")
    return 0


def _prepare_streams() -> None:
    """What a terminal has no character for is written as an escape, not a fault."""
    for stream in (sys.stdout, sys.stderr):
        if hasattr(stream, "reconfigure"):
            stream.reconfigure(errors="backslashreplace")


def _stop_in_order() -> None:
    """Every way to ask us to stop ends like Ctrl+C: compilers and simulators with us, nothing left behind."""
    import signal
    import threading

    if threading.current_thread() is not threading.main_thread():
        return

    def stop(number: int, frame: object) -> None:
        _asked.set()
        raise Interrupted

    for name in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
        if signal.getsignal(name) in (signal.SIG_DFL, signal.default_int_handler):
            signal.signal(name, stop)
    sys.unraisablehook = _unraisable
    sys.excepthook = _unhandled
    heard, told = os.pipe()
    os.set_blocking(told, False)
    signal.set_wakeup_fd(told, warn_on_full_buffer=False)
    threading.Thread(target=_end_anyway, args=(heard,), daemon=True).start()


def _unhandled(kind: type[BaseException], value: BaseException, trace: TracebackType | None) -> None:
    """A library that loads its parts in C prints what it can't pass on; being asked to stop is no news there either."""
    if not issubclass(kind, (Interrupted, KeyboardInterrupt)):
        sys.__excepthook__(kind, value, trace)


def _unraisable(what: sys.UnraisableHookArgs) -> None:
    """Being asked to stop in a place that can't pass it on (a callback of the compiler of our loops, a finalizer)
    is no news: whoever asked is answered by ``_end_anyway``."""
    if not isinstance(what.exc_value, (Interrupted, KeyboardInterrupt)):
        sys.__unraisablehook__(what)


def _end_anyway(heard: int) -> None:
    """A computation that hears no signal (it isn't Python's turn until it returns) is ended from outside."""
    import signal
    import time

    numbers = {signal.SIGINT, signal.SIGTERM, signal.SIGHUP}
    while not numbers.intersection(os.read(heard, 64)):
        pass
    time.sleep(PATIENCE_S)
    processes = sys.modules.get("combe.proof.process")
    if processes is not None:
        processes.end_all()
    _refused("interrupted")
    sys.stderr.flush()
    os._exit(INTERRUPTED)


def _is_of_output(error: OSError) -> bool:
    """Whether standard output failed, rather than something a verb should have told in a sentence."""
    import errno

    return error.filename is None and error.errno in (errno.ENOSPC, errno.EIO, errno.EDQUOT, errno.EBADF)


def _silence_output() -> None:
    """Let nothing more be written to standard output, not even at the very end."""
    with contextlib.suppress(OSError, ValueError, AttributeError):
        os.dup2(os.open(os.devnull, os.O_WRONLY), 1)


def _refused(sentence: str) -> int:
    with contextlib.suppress(OSError):
        print(f"combe: {sentence}", file=sys.stderr)
    return 2
