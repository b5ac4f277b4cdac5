"""Tasks spread over processes of this machine, or over the workers of a cluster."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from concurrent.futures import ProcessPoolExecutor, as_completed
from typing import Any

from combe.designing.workers import side_by_side
from combe.errors import FormatError, ToolError

Stop = Callable[[], bool]
Spread = Callable[[Callable[..., Any], list[tuple[Any, ...]], Stop], Iterator[Any]]
"""What a function returns for each task, as it is ready; the function takes ``is_stopped`` last."""


def spread_over(workers: int | None, cluster: str) -> Spread:
    """So many processes, or those of a cluster; without either as many as there are processors, up to four.

    Raises
    ------
    FormatError
        If both are given, or no number of processes.
    ToolError
        If the cluster can't be reached, or what speaks to it isn't installed.
    """
    if workers is not None and cluster:
        raise FormatError("processes here and a cluster exclude each other", "--workers", "leave one of the two out")
    if cluster:
        return _clustered(cluster)
    if workers is None:
        return side_by_side
    if not 1 <= workers <= 256:
        raise FormatError(f"{workers} processes", "--workers", "1 to 256")
    return _here if workers == 1 else _pooled(workers)


def _here(function: Callable[..., Any], tasks: list[tuple[Any, ...]], is_stopped: Stop) -> Iterator[Any]:
    for task in tasks:
        if is_stopped():
            return
        yield function(*task, is_stopped)


def never() -> bool:
    """Work that is sent away ends by itself."""
    return False


def _pooled(count: int) -> Spread:
    def spread(function: Callable[..., Any], tasks: list[tuple[Any, ...]], is_stopped: Stop) -> Iterator[Any]:
        with ProcessPoolExecutor(count) as pool:
            sent = [pool.submit(function, *task, never) for task in tasks]
            for each in as_completed(sent):
                if is_stopped():
                    pool.shutdown(wait=False, cancel_futures=True)
                    return
                yield each.result()

    return spread


def _clustered(address: str) -> Spread:
    try:
        from dask.distributed import Client
        from dask.distributed import as_completed as completed
    except ImportError:
        raise ToolError(
            "dask.distributed isn't installed", "--cluster", "pip install 'combe[cluster]', or give --workers"
        ) from None
    try:
        client = Client(address, timeout=10)
    except (OSError, ValueError) as error:
        raise ToolError(
            f"no cluster answers at {address} ({error})", "--cluster", "give its address, such as tcp://host:8786"
        ) from None

    def spread(function: Callable[..., Any], tasks: list[tuple[Any, ...]], is_stopped: Stop) -> Iterator[Any]:
        sent = [client.submit(function, *task, never, pure=False) for task in tasks]
        for each in completed(sent):
            if is_stopped():
                client.cancel(sent)
                return
            yield each.result()

    return spread
