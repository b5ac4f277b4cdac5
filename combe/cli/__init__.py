"""The command line: one file per verb, one place where errors become a line and an exit status.

Exit status: 0 done and every limit kept, 1 done but a limit is missed or a proof failed, 2 bad input.
"""

from __future__ import annotations

import os
import sys
from pathlib import Path

VERBS = {
    "demo": "The Alder Combe bat survey, in the window or headless.",
    "methods": "List every design method.",
    "design": "Design one filter: the shortest that keeps every limit, or the best of a given order.",
    "contenders": "Line up every method that applies, cheapest first.",
    "trade": "Taps against bits: which orders keep every limit at which widths.",
    "examine": "Measure any filter.",
    "realize": "Turn a design into integers that a chip can run.",
    "simulate": "Run a realization bit by bit.",
    "deliver": "Write generated code, and prove it on real tools.",
    "budget": "Instructions on an emulated processor, and the share of its clock they take.",
    "table": "Write coefficients as text, by a recipe.",
    "report": "The whole story of a filter, with figures.",
    "picture": "Draw one of the application's views, off screen.",
}
"""Each verb is a module of this folder; its sentence stands here so that help needs none of them."""


def main() -> None:
    """The entry point ``combe``: a verb, or a file (or nothing) to open in the window."""
    # The matrices of one filter are small, and the window needs the other core: one thread each is fastest. Only the
    # program itself says so; who imports combe keeps the environment as it is.
    os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
    words = sys.argv[1:]
    if words == ["--version"]:
        from combe import __version__

        print(f"combe {__version__}")
        sys.exit(0)
    if words and (words[0] in VERBS or words[0].startswith("-")):
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
    import warnings

    import click

    from combe.cli.root import command
    from combe.errors import CombeError

    # A number that ran out of range shows in the result; the libraries' remarks on it help nobody.
    warnings.simplefilter("ignore", RuntimeWarning)
    try:
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
    except (click.Abort, KeyboardInterrupt):
        return _refused("stopped")
    except BrokenPipeError:
        sys.stderr.close()
        return 0
    except Exception:
        from combe.log import log_failure

        return _refused(f"this is a fault in Combe itself, recorded in {log_failure('combe ' + ' '.join(words))}")


def _refused(sentence: str) -> int:
    print(f"combe: {sentence}", file=sys.stderr)
    return 2
