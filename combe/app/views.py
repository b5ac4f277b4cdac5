"""Names of the views a picture can be made of. No Qt here: the command line lists them without it."""

VIEWS = ("brief", "ideal", "rounded", "arithmetic", "code", "magnitude", "phase", "delay", "time", "level", "roots", "formula",
         "numbers", "measures", "noise", "widths", "table", "measured", "budget", "path", "cost", "waves")  # fmt: skip
"""The five steps as the whole window, then the plots alone, then the pages of the code step, measured where needed."""
PAGES = ("table", "measured", "budget", "path", "cost", "waves")
OF_CIRCUITS = ("path", "cost", "waves")
