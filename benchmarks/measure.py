"""Timing two things against each other in one run."""

from __future__ import annotations

import gc
import os
import socket
import time
from collections.abc import Callable
from pathlib import Path


def sized(full: int, small: int) -> int:
    """How many of something are measured: a few where FLINCH_BENCHMARK_SMALL is set, which only shows that it runs."""
    return small if os.environ.get("FLINCH_BENCHMARK_SMALL") else full


def free_port() -> int:
    """A loopback port that nothing listens on."""
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


def memory(process: int) -> tuple[int, int]:
    """What a process has of its own, and what it sees of files that are mapped, MB."""
    told = Path(f"/proc/{process}/smaps_rollup").read_text().splitlines()[1:]
    sizes = {line.split(":")[0]: int(line.split()[1]) for line in told}
    return sizes["Anonymous"] >> 10, (sizes["Rss"] - sizes["Anonymous"]) >> 10


def seconds(work: Callable[[], object], repeats: int = 7) -> float:
    """Shortest of several runs: on a machine with neighbours the least disturbed one tells most."""
    work()
    best = float("inf")
    for _ in range(repeats):
        gc.collect()
        began = time.perf_counter()
        work()
        best = min(best, time.perf_counter() - began)
    return best


def table(title: str, rows: list[tuple[str, str, str, str]]) -> None:
    """Print a table in Markdown: what, time, against the reference, wanted."""
    print(f"\n### {title}\n")
    print("| what | time | ratio | wanted |")
    print("| --- | ---: | ---: | ---: |")
    for row in rows:
        print("| " + " | ".join(row) + " |")
