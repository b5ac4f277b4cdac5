"""What each stretch of generated text is: comment, keyword, number, directive, string. For whoever shows it in colour."""

from __future__ import annotations

from pathlib import PurePath

from combe.delivery.languages import LEXERS

Span = tuple[int, int, str]
"""Where a stretch starts in its line, how long it is, what it is."""


def colored(text: str, file_name: str) -> tuple[tuple[Span, ...], ...]:
    """For each line its stretches, left to right; what is plain is left out. No lexer, no stretches."""
    from pygments import lex  # late: only who looks at text needs it
    from pygments.lexers import get_lexer_by_name
    from pygments.token import Token

    name = LEXERS.get(PurePath(file_name).suffix or file_name)
    lines: list[list[Span]] = [[] for _ in range(text.count("\n") + 1)]
    if name is None:
        return tuple(tuple(line) for line in lines)
    kinds = (
        (Token.Comment.Preproc, "directive"), (Token.Comment.PreprocFile, "directive"), (Token.Comment, "comment"),
        (Token.Keyword, "keyword"), (Token.Literal.Number, "number"), (Token.Literal.String, "string"),
    )  # fmt: skip
    row = column = 0
    for token, value in lex(text, get_lexer_by_name(name, stripnl=False, ensurenl=False)):
        kind = next((word for each, word in kinds if token in each), "")
        for number, piece in enumerate(value.split("\n")):
            if number:
                row, column = row + 1, 0
            if piece and kind and row < len(lines):
                lines[row].append((column, len(piece), kind))
            column += len(piece)
    return tuple(tuple(line) for line in lines)
