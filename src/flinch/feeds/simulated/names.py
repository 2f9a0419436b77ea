"""The listed names and how names of different size differ."""

from __future__ import annotations

import csv
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
    "large": SizeTraits(0.006, 9000, 0.004, 0.012, 22, 1.0),
    "medium": SizeTraits(0.005, 1100, 0.010, 0.025, 13, 0.7),
    "small": SizeTraits(0.004, 110, 0.02, 0.05, 7, 0.0),
}


def listings() -> list[Listing]:
    """All names in the order of the market's arrays: companies, then funds, then indices."""
    with (files(__package__) / "names.csv").open(encoding="utf-8") as source:
        return [Listing(**row) for row in csv.DictReader(source)]


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
        row = np.where(members, weight, 0.0)
        rows.append(row / row.sum())
    return np.array(rows)
