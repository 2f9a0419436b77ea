"""The listed names and how names of different size differ."""

from __future__ import annotations

import csv
import itertools
from collections.abc import Collection
from importlib.resources import files
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray


class Listing(NamedTuple):
    """One listed name."""

    symbol: str
    company: str
    kind: str
    sector: str
    size: str


class SizeTraits(NamedTuple):
    """What the size of a name decides."""

    turnover: float  # share of the shares outstanding that trades in a session
    option_volume: float  # median contracts a session
    half_spread_vol: float  # half the bid-ask width in volatility
    strike_step: float  # strike distance as a share of price
    max_strikes: int  # strikes on each side of the money
    weeklies: float  # share of names with weekly expirations


SIZES = {
    "large": SizeTraits(0.0065, 9000, 0.004, 0.012, 22, 1.0),
    "medium": SizeTraits(0.0075, 1100, 0.010, 0.025, 13, 0.7),
    "small": SizeTraits(0.007, 110, 0.02, 0.05, 7, 0.0),
}


_LEAST, _FUNDS = 20, 3
"""The fewest names of a market, and of funds in one."""
_FURTHER = {"large": 0.25, "medium": 0.7, "small": 1.6}
"""How often a company of a size is like the further ones of a larger market, against one of the demo market."""


def listings(count: int | None = None, first: Collection[str] = ()) -> list[Listing]:
    """All names in the order of the market's arrays: companies, then funds, then indices.

    With a `count` above that of the demo market further companies are made up, of the same sectors and sizes, most of them
    small; below it those with the symbols of `first`, the indices and the first funds go before other companies, and those
    before other funds.

    Raises
    ------
    ValueError
        When `count` is less than those, or than twenty.
    """
    with (files(__package__) / "names.csv").open(encoding="utf-8") as source:
        named = [Listing(**row) for row in csv.DictReader(source)]
    if count is None or count == len(named):
        return named
    if count < len(named):
        fund = np.array([n.kind == "fund" for n in named])
        must = np.array([n.kind == "index" or n.symbol in first for n in named]) | (fund & (np.cumsum(fund) <= _FUNDS))
        least = max(int(must.sum()), _LEAST)
        if count < least:
            raise ValueError(f"{least} names at least")
        drawn = np.random.default_rng(count).random(len(named))
        order = np.argsort(np.where(must, -2.0, np.where(fund, 1 + drawn, drawn)))
        return [named[place] for place in np.sort(order[:count]).tolist()]
    companies, others = ([n for n in named if (n.kind == "stock") == stock] for stock in (True, False))
    letters = ["BDFGHKLMNPRSTVZ", "AEIOU", "BDFGHKLMNPRSTVZ", "BDFGHKLMNPRSTVZ", "AEIOU"]
    taken = {n.symbol for n in named}
    symbols = [s for s in map("".join, itertools.product(*letters)) if s not in taken]
    rng = np.random.default_rng(count)
    chosen = rng.choice(len(symbols), count - len(named), replace=False)
    rarity = np.array([_FURTHER[n.size] for n in companies])
    for place, like in zip(chosen, rng.choice(len(companies), chosen.size, p=rarity / rarity.sum()), strict=True):
        symbol, model = symbols[place], companies[like]
        companies.append(Listing(symbol, f"{symbol.title()} {model.sector}", "stock", model.sector, model.size))
    return companies + others


def fund_weights(names: list[Listing], capitalisation: NDArray[np.float64]) -> NDArray[np.float64]:
    """Weights of companies in every fund and index, shape (funds and indices, companies), each row summing to one."""
    companies = [name for name in names if name.kind == "stock"]
    sector = np.array([name.sector for name in companies])
    size = np.array([name.size for name in companies])
    everyone = np.ones(len(companies), dtype=bool)
    largest = np.zeros(len(companies), dtype=bool)
    largest[np.argsort(-capitalisation, kind="stable")[:50]] = True
    rows = []
    for fund in names[len(companies) :]:
        weight = capitalisation
        if fund.sector != "Broad market":
            members = sector == fund.sector
        elif "Fifty" in fund.company:
            members = largest
        elif "Middle" in fund.company:
            members = size == "medium"
        elif "Small" in fund.company:
            members = size == "small"
        elif "Calm" in fund.company:
            members = np.isin(sector, ("Household", "Mutuals & Underwriters", "Cold-Water Foods"))
        elif "Rough" in fund.company:
            members = np.isin(sector, ("Bio-Marine", "Optics & Orbital", "Signals & Software"))
        elif "Exporters" in fund.company:
            members = np.isin(sector, ("Shipyards & Freight", "Metals & Salt", "Timber & Paper"))
        else:
            members = everyone
            weight = np.ones(len(companies)) if "Even" in fund.company else capitalisation
        row = np.where(members, weight, 0.0) if members.any() else capitalisation
        rows.append(row / row.sum())
    return np.array(rows)


def listing_groups(names: list[Listing], weeklies: NDArray[np.bool_]) -> list[tuple[str, bool, NDArray[np.int64]]]:
    """Names that list the same expirations."""
    size = np.array([n.size for n in names])
    groups = [(s, w, np.flatnonzero((size == s) & (weeklies == w))) for s in SIZES for w in (True, False)]
    return [row for row in groups if row[2].size]
