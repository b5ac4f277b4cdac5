"""A report as one HTML page that needs nothing else: contents, figures inside, readable in print without colour."""

from __future__ import annotations

import base64
import html
import io

from combe import __version__
from combe.reports.content import Chapter, Drawing, Report, Section


def html_text(report: Report) -> str:
    """The whole page."""
    title = html.escape(report.title)
    rows = [
        "<!doctype html>", '<html lang="en"><head><meta charset="utf-8">', f"<title>{title}</title>", f"<style>{STYLE}</style>", "</head><body>",
        f"<h1>{title}</h1>", f'<p class="verdict">{_marked(report.verdict)}</p>',
    ]  # fmt: skip
    if len(report.chapters) > 1:
        rows += ["<nav><ol>"]
        rows += [
            f'<li><a href="#c{k}">{html.escape(chapter.title)}</a></li>' for k, chapter in enumerate(report.chapters)
        ]
        rows += ["</ol></nav>"]
    for k, chapter in enumerate(report.chapters):
        rows += _chapter(chapter, k, len(report.chapters) > 1)
    return "\n".join([*rows, f"<footer>Made by Combe {__version__}.</footer>", "</body></html>", ""])


def _chapter(chapter: Chapter, place: int, is_one_of_several: bool) -> list[str]:
    rows = [f'<section id="c{place}">']
    if is_one_of_several:
        rows.append(f"<h2>{html.escape(chapter.title)}</h2>")
    for section in chapter.sections:
        rows += _section(section)
    return [*rows, "</section>"]


def _section(section: Section) -> list[str]:
    rows = [f"<h3>{html.escape(section.title)}</h3>"]
    rows += [f"<p>{_marked(sentence)}</p>" for sentence in section.sentences]
    rows += [_image(drawing) for drawing in section.drawings]
    if section.table:
        head, *body = section.table
        rows.append(
            '<div class="wide"><table><tr>' + "".join(f"<th>{html.escape(cell)}</th>" for cell in head) + "</tr>"
        )
        rows += ["<tr>" + "".join(_cell(cell) for cell in row) + "</tr>" for row in body]
        rows.append("</table></div>")
    if section.text:
        rows.append(
            "<details open><summary>in full</summary><pre>" + html.escape("\n".join(section.text)) + "</pre></details>"
        )
    return rows


def _image(drawing: Drawing) -> str:
    buffer = io.BytesIO()
    drawing.draw().savefig(buffer, format="svg")
    data = base64.b64encode(buffer.getvalue()).decode()
    words = html.escape(drawing.words)
    return f'<figure><figcaption>{html.escape(drawing.title)}</figcaption><img alt="{words}" src="data:image/svg+xml;base64,{data}"></figure>'


def _cell(text: str) -> str:
    mark = ' class="missed"' if "MISSED" in text else ""
    return f"<td{mark}>{html.escape(text)}</td>"


def _marked(sentence: str) -> str:
    """A danger or a miss stands out, by weight as well as by colour."""
    safe = html.escape(sentence)
    for word in ("DANGER:", "Warning:", "MISSED"):
        safe = safe.replace(word, f'<b class="missed">{word}</b>')
    return safe


STYLE = (
    "body{font:15px/1.45 system-ui,sans-serif;max-width:960px;margin:32px auto;padding:0 16px;color:#1f2421;background:#fbfaf6}"
    "h2{margin-top:48px;border-top:2px solid #1f2421;padding-top:12px}h3{margin:28px 0 6px}p{margin:4px 0}.verdict{font-size:17px;font-weight:600}"
    "nav ol{margin:8px 0;padding-left:22px}a{color:#175b8c}.wide{overflow-x:auto}table{border-collapse:collapse;font-size:13px;margin-top:8px}"
    "td,th{padding:3px 14px 3px 0;text-align:left;border-bottom:1px solid #dcd9cf;vertical-align:top}figure{margin:12px 0}"
    "figcaption{font-size:13px;font-weight:600}img{max-width:100%}pre{font-size:12px;background:#fff;border:1px solid #dcd9cf;padding:12px;overflow:auto}"
    "summary{font-size:13px;cursor:pointer}.missed{color:#a33f32;font-weight:700}footer{margin-top:32px;color:#777;font-size:12px}"
    "@media print{body{background:#fff;max-width:none;margin:0}section{break-before:page}section:first-of-type{break-before:auto}figure,tr{break-inside:avoid}"
    "summary{display:none}}"
)
