"""The exchange as it goes on after the market that was made: where it is at the end of a session, and that as bytes."""

from __future__ import annotations

import io
import json
import zipfile
import zlib
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from flinch.feeds.simulated.activity import Activity
from flinch.feeds.simulated.calendar import DateArray, all_sessions
from flinch.feeds.simulated.earnings import EarningsCalendar
from flinch.feeds.simulated.interest import Interest, Listed
from flinch.feeds.simulated.names import Listing, listings
from flinch.feeds.simulated.paths import Traits, Walk
from flinch.feeds.simulated.storylines import storylines
from flinch.feeds.simulated.surfaces import Premium, Smile, Smiles

Floats = NDArray[np.float64]
KEPT_CLOSES = 66
"""Sessions whose closes say what is a large move."""


@dataclass
class Onward:
    """What the next session begins with; making one changes it.

    Arrays are by name, or by company where they say so. `session` is the one that is over, or, where `unfinished`, the one whose
    last quarter hour is ahead; then `volume` is what has traded in it of each listed contract, shape (2, rows), and `bar` its
    open, high, low, close and shares so far, shape (5, names).
    """

    seed: int
    planted: bool
    names: list[Listing]
    session: np.datetime64
    unfinished: bool
    walk: Walk
    own_factor: Floats  # by company
    activity: Activity
    premium: Premium
    smiles: Smiles
    interest: Interest
    volume: NDArray[np.int64]
    bar: Floats
    variance: Floats  # at the session's close, by factor, (3, names)
    long_variance: Floats
    spread: Floats
    premium_now: Floats
    smile_now: Smile
    carry: Floats
    multiplier: Floats
    halted: NDArray[np.bool_]
    weekly: NDArray[np.bool_]
    earnings: EarningsCalendar  # places count from the first of `all_sessions`
    closes: Floats  # names x the newest sessions, this one last

    def stream(self, label: str) -> np.random.Generator:
        """A stream of its own for each part of each session: nothing depends on what else was made, or when."""
        return np.random.default_rng([self.seed, zlib.crc32(label.encode()), 1])

    def earnings_from(self, first: np.datetime64) -> EarningsCalendar:
        """Reports that are announced or reacted to from a session on; places count from it."""
        offset = int(np.searchsorted(all_sessions(), first))
        ahead = self.earnings.reaction >= offset
        kept = self.earnings._replace(**{key: values[ahead] for key, values in self.earnings._asdict().items()})
        return kept._replace(announced=kept.announced - offset, reaction=kept.reaction - offset)

    def to_bytes(self) -> bytes:
        """All of it; `from_bytes` takes it."""
        told = {
            "seed": self.seed,
            "planted": self.planted,
            "count": len(self.names),
            "session": str(self.session),
            "unfinished": self.unfinished,
            "common": self.activity.common,
        }
        assert self.interest.listed is not None
        assert self.interest.interest is not None
        assert self.interest.before is not None
        arrays: dict[str, NDArray[Any]] = {
            "told": np.frombuffer(json.dumps(told).encode(), np.uint8),
            "walk.level": self.walk.level,
            **{f"walk.{place}": factor.state for place, factor in enumerate(self.walk.factors)},
            **_fields("traits", self.walk.traits),
            "activity.shares": self.activity.shares,
            "activity.contracts": self.activity.contracts,
            "activity.busy": self.activity.busy,
            "activity.options": self.activity.options,
            "premium.centre": self.premium.centre,
            "premium.state": self.premium.state,
            **_fields("centre", self.smiles.centre),
            "smiles.state": self.smiles.state,
            "interest.level": self.interest.level,
            "interest.taste": self.interest.taste,
            "interest.mood": self.interest.mood,
            "interest.interest": self.interest.interest,
            "interest.before": self.interest.before,
            **_fields("listed", self.interest.listed),
            **_fields("earnings", self.earnings),
            **_fields("smile_now", self.smile_now),
            **{key: getattr(self, key) for key in _PLAIN},
        }
        out = io.BytesIO()
        np.savez_compressed(out, allow_pickle=False, **arrays)
        return out.getvalue()

    @classmethod
    def from_bytes(cls, kept: bytes) -> Onward:
        """What `to_bytes` told. Raises ValueError when it is something else."""
        try:
            with np.load(io.BytesIO(kept), allow_pickle=False) as there:
                arrays = dict(there)
            told = json.loads(arrays["told"].tobytes())
            return cls._of(told, arrays)
        except (KeyError, OSError, EOFError, ValueError, TypeError, zlib.error, zipfile.BadZipFile) as error:
            raise ValueError(f"this is no state of the exchange: {error}") from None

    @classmethod
    def _of(cls, told: dict[str, Any], arrays: dict[str, NDArray[Any]]) -> Onward:
        stories = {story.symbol for story in storylines()} if told["planted"] else set()
        names = listings(told["count"], first=stories)
        traits = _made(Traits, "traits", arrays)
        restless = [arrays[f"walk.{place}"] for place in range(3)]
        interest = Interest(
            names,
            arrays["interest.level"],
            arrays["interest.taste"],
            arrays["interest.mood"],
            _made(Listed, "listed", arrays),
            arrays["interest.interest"],
            arrays["interest.before"],
        )
        return cls(
            seed=told["seed"],
            planted=told["planted"],
            names=names,
            session=np.datetime64(told["session"], "D"),
            unfinished=told["unfinished"],
            walk=Walk(names, traits, arrays["walk.level"], restless),
            activity=Activity(
                arrays["activity.shares"],
                arrays["activity.contracts"],
                told["common"],
                arrays["activity.busy"],
                arrays["activity.options"],
            ),
            premium=Premium(arrays["premium.centre"], arrays["premium.state"]),
            smiles=Smiles(_made(Smile, "centre", arrays), arrays["smiles.state"]),
            interest=interest,
            earnings=_made(EarningsCalendar, "earnings", arrays),
            smile_now=_made(Smile, "smile_now", arrays),
            **{key: arrays[key] for key in _PLAIN},
        )


_PLAIN = (
    "own_factor", "volume", "bar", "variance", "long_variance", "spread", "premium_now", "carry", "multiplier", "halted",
    "weekly", "closes",
)  # fmt: skip


def _fields(name: str, of: Any) -> dict[str, NDArray[Any]]:
    return {f"{name}.{key}": values for key, values in of._asdict().items()}


def _made(kind: Any, name: str, arrays: dict[str, NDArray[Any]]) -> Any:
    return kind(*(arrays[f"{name}.{key}"] for key in kind._fields))


def from_calendar(earnings: EarningsCalendar, first: np.datetime64) -> EarningsCalendar:
    """Reports whose places count from a session, counted from the first of `all_sessions`."""
    offset = int(np.searchsorted(all_sessions(), first))
    return earnings._replace(announced=earnings.announced + offset, reaction=earnings.reaction + offset)


def sessions_from(first: np.datetime64, count: int) -> DateArray:
    """So many sessions of the exchange from one on."""
    sessions = all_sessions()
    place = int(np.searchsorted(sessions, first))
    return sessions[place : place + count]
