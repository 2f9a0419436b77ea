"""Open interest that came without chains, a name's session in one row."""

from __future__ import annotations

import datetime as dt
from typing import Any

import numpy as np
import polars as pl
from sqlalchemy import Engine, select

from flinch.store.engine import told
from flinch.store.market.models import InterestDay
from flinch.store.packing import pack_groups, packed_prices, unpack_groups, unpacked_prices
from flinch.store.reading import numbers

INTEREST = np.dtype([("expiration", "<i4"), ("strike", "<i8"), ("is_call", "u1"), ("open_interest", "<i8")])
"""One contract: days since 1970, strike in ten-thousandths, whether it is a call, open interest of the morning."""


def interest_rows(contracts: pl.DataFrame) -> pl.DataFrame:
    """Rows of `InterestDay`: session, name_id and the fields of `INTEREST`, in any order."""
    ordered = contracts.sort("session", "name_id", "expiration", "strike", "is_call")
    records = np.empty(ordered.height, INTEREST)
    for field in ("is_call", "open_interest"):
        records[field] = ordered[field].to_numpy()
    records["expiration"] = ordered["expiration"].cast(pl.Date).to_physical().to_numpy()
    records["strike"] = packed_prices(numbers(ordered["strike"]))
    day = ordered["session"].cast(pl.Date).to_physical().to_numpy().astype(np.int64)
    owners, packed = pack_groups((day << 32) + ordered["name_id"].cast(pl.Int64).to_numpy(), records)
    return pl.DataFrame(
        {
            "session": pl.Series((owners >> 32).astype(np.int32)).cast(pl.Date),
            "name_id": owners & 0xFFFFFFFF,
            "contracts": pl.Series(packed, dtype=pl.Binary),
        }
    )


def read_interest_day(engine: Engine, session: dt.date, names: tuple[Any, Any] | None = None) -> pl.DataFrame:
    """What came of a session without chains, of all names or of those between two keys, both included: session, name_id,
    expiration, strike, is_call, open_interest."""
    i = InterestDay
    wanted = [i.session == session, *([] if names is None else [i.name_id.between(*names)])]
    with told(), engine.connect() as connection:
        found = connection.execute(select(i.name_id, i.contracts).where(*wanted).order_by(i.name_id)).all()
    place, records = unpack_groups(INTEREST, [contracts for _, contracts in found])
    return pl.DataFrame(
        {
            "session": pl.Series([session], dtype=pl.Date).new_from_index(0, records.size),
            "name_id": np.array([name_id for name_id, _ in found], dtype=np.int64)[place],
            "expiration": pl.Series(records["expiration"]).cast(pl.Date),
            "strike": unpacked_prices(records["strike"]),
            "is_call": records["is_call"].astype(bool),
            "open_interest": records["open_interest"].astype(np.int64),
        }
    )


def read_interest_sessions(engine: Engine) -> list[dt.date]:
    """Sessions of which any came, in order."""
    with told(), engine.connect() as connection:
        return list(connection.execute(select(InterestDay.session).distinct().order_by(InterestDay.session)).scalars())
