"""The race in a target's currency."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from combe.racing.race import Entry
    from combe.requirement import Requirement


def race(
    requirement: Requirement,
    target: str,
    *,
    clock_hz: float = 0.0,
    input: str = "s16f15",
    output: str = "",
    signal_to_noise_db: float | None = None,
    limit: int = 10,
    workers: int | None = None,
    cluster: str = "",
    say: Callable[[str], None] = lambda _: None,
) -> list[Entry]:
    """Complete realizations that keep every limit with their integers, cheapest on a target first.

    Parameters
    ----------
    target
        A core (``cortex-m4`` …), in cycles a sample by instructions counted on the emulator, or a device (``ice40-up5k`` …), in the
        largest share of what it holds by synthesis. ``is_measured`` of an entry says whether its tools were there.
    clock_hz
        Of the target: what doesn't keep up with its samples isn't listed. 0 takes 80 MHz for a core, 48 MHz for a device.
    signal_to_noise_db
        What a full-scale sine must have over all roundings.
    workers, cluster
        Processes of this machine, or the address of a ``dask.distributed`` scheduler.

    Raises
    ------
    CombeError
        If the target isn't known, a format can't be read, or a number is out of reach.
    """
    from combe.racing.race import Wanted
    from combe.racing.race import race as raced

    wanted = Wanted(input, output, signal_to_noise_db or 0.0)
    return raced(requirement, target, clock_hz, wanted, limit, workers, cluster, say)


def write_race(entries: Sequence[Entry], folder: Path) -> list[str]:
    """Each realization in a file of its own, the cheapest first by name; the names."""
    from combe.api.files import save
    from combe.api.realizing import realized_from

    folder.mkdir(parents=True, exist_ok=True)
    names = []
    for place, entry in enumerate(entries, 1):
        parts = (
            f"{place:03}",
            entry.design.method,
            str(entry.design.order),
            entry.realization.structure,
            entry.way.architecture,
        )
        names.append("-".join(part for part in parts if part) + ".json")
        save(realized_from(entry.realization, entry.design), folder / names[-1])
    return names
