"""``combe picture``"""

from __future__ import annotations

import re
from typing import Annotated

import typer

from combe.cli.sources import FilterName
from combe.errors import CombeError, FileError

LARGEST = 8192


def run(
    view: Annotated[str, typer.Argument(metavar="VIEW", help="A view's name.")] = "",
    project: Annotated[str, typer.Option(metavar="FILE", help="The project; the demo without one.")] = "",
    filter: FilterName = "",
    to: Annotated[str, typer.Option(metavar="F.png", help="Where the picture goes.")] = "",
    size: Annotated[str, typer.Option(metavar="WxH", help="Its size in pixels.")] = "1280x800",
    theme: Annotated[str, typer.Option(help="light or dark.")] = "light",
    list: Annotated[bool, typer.Option("--list", help="Name every view, one a line.")] = False,
) -> int:
    """Draw one of the application's views, off screen."""
    from combe.app.pages.register import NAMES

    if list:
        print("\n".join(NAMES))
        return 0
    if view not in NAMES:
        raise FileError(f'"{view}" is not a view', "VIEW", f"known are {', '.join(NAMES)}")
    if not to:
        raise FileError("there is nowhere to put the picture", "--to", "give a file name that ends in .png")
    if not to.lower().endswith(".png"):
        raise FileError(f'"{to}" is not a picture\'s name', "--to", "give a file name that ends in .png")
    if theme not in ("light", "dark"):
        raise FileError(f'"{theme}" is not a theme', "--theme", "known are light, dark")
    match = re.fullmatch(r"([0-9]{2,5})x([0-9]{2,5})", size)
    if match is None or not all(320 <= int(number) <= LARGEST for number in match.groups()):
        raise FileError(f'"{size}" is not a size', "--size", f"write it like 1280x800, between 320 and {LARGEST}")
    from combe.app.display import check_qt

    check_qt()
    from combe.project.chosen import opened
    from combe.project.demo import recorder_project
    from combe.project.file import read_project

    try:
        found = opened(read_project(project) if project else recorder_project(), filter)
    except CombeError as error:
        raise (error.at(project) if project and error.where == "--filter" else error) from None
    from combe.app.picture import draw_view

    draw_view(view, found, to, (int(match[1]), int(match[2])), theme)
    return 0
