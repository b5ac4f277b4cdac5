"""The command line: one file per verb, one place where errors become a line and an exit status.

Exit status: 0 done and every limit kept, 1 done but a limit is missed or a proof failed, 2 bad input.
"""

from __future__ import annotations

import sys

VERBS = (
    "demo",
    "methods",
    "design",
    "contenders",
    "examine",
    "realize",
    "simulate",
    "deliver",
    "budget",
    "table",
    "report",
    "picture",
)


def main() -> None:
    """The entry point ``combe``: a verb, or a file (or nothing) to open in the window."""
    words = sys.argv[1:]
    if words and (words[0] in VERBS or words[0].startswith("-")):
        sys.exit(run_verb(words))
    if len(words) > 1:
        print(f"combe: {words[0]!r} is not a verb; known are {', '.join(VERBS)}", file=sys.stderr)
        sys.exit(2)
    from combe.app.start import open_application

    sys.exit(open_application(words[0] if words else None))


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
