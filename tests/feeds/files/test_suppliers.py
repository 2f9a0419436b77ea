"""Six made-up suppliers, each with a shape of its own: what they have is understood without a hand edit, or exactly the right
question is asked; and where their figures differ, that is told."""

from __future__ import annotations

import datetime as dt
from pathlib import Path

import openpyxl
import polars as pl
import pytest
from hypothesis import given
from hypothesis import strategies as st
from sqlalchemy import Engine, select
from tests.feeds.files.made import SYMBOLS, TAKEN, bars, chain, counts, load

from flinch.feeds.files.importing import Asked, Outcome, import_file
from flinch.feeds.files.matching import CannotMatch
from flinch.feeds.files.reading import open_table
from flinch.feeds.files.sources import disagreements
from flinch.feeds.files.values import Hints
from flinch.feeds.files.wide import wide_columns
from flinch.store.market.chain import read_contracts
from flinch.store.market.models import VolatilityDay
from flinch.store.reading import read_table

COLUMNS = ["symbol", "strike", "right", "bid", "ask", "call_bid", "put_bid", "call_ask", "cusip", "c"]


def plain() -> pl.DataFrame:
    return bars().with_columns(pl.col(pl.Float64).round(2))


def brought(store: Engine, path: Path, source: str, **hints: object) -> Outcome:
    return import_file(store, Asked(path, source=source, hints=Hints(**hints)))


def harbour(folder: Path) -> list[Path]:
    """Commas, ISO days, our own names."""
    (folder / "names.csv").write_text("symbol,company\n" + "".join(f"{s},{s.title()} Works\n" for s in SYMBOLS))
    plain().write_csv(folder / "daily_bars.csv")
    chain().write_parquet(folder / "chains.parquet")
    return [folder / "names.csv", folder / "daily_bars.csv", folder / "chains.parquet"]


def abacus(folder: Path) -> list[Path]:
    """Semicolons, a comma before decimals and points between thousands, days first, contract symbols, UTF-16."""
    (folder / "Stammdaten.txt").write_text(
        "Ticker;Security Name\n" + "".join(f"{s};{s.title()} Works\n" for s in SYMBOLS), encoding="utf-16"
    )

    def comma(value: float) -> str:
        return f"{value:,.2f}".translate(str.maketrans(",.", ".,"))

    lines = [
        ";".join([symbol, f"{day:%d.%m.%Y}", *[comma(value) for value in prices], comma(float(volume))[:-3]])
        for symbol, day, *prices, volume in plain().iter_rows()
    ]
    (folder / "Kurse.txt").write_text(
        "Ticker;Trade Date;Open Price;High Price;Low Price;Last;Shares Traded\n" + "\n".join(lines), encoding="utf-16"
    )
    quotes = [
        f"{symbol};{symbol:<6}{expiration:%y%m%d}{right}{round(strike * 1000):08d};09.09.2026;"
        + ";".join(map(comma, (bid, ask, spot)))
        for symbol, _, expiration, strike, right, spot, bid, ask, *_ in chain().iter_rows()
    ]
    (folder / "Ketten.txt").write_text(
        "Root;OSI;Snapshot Day;Bid Price;Ask Price;Underlying Price\n" + "\n".join(quotes), encoding="utf-16"
    )
    return [folder / "Stammdaten.txt", folder / "Kurse.txt", folder / "Ketten.txt"]


def cinder(folder: Path) -> list[Path]:
    """Tabs, epoch milliseconds, month first, packed; calls and puts beside each other."""
    lines = ["\t".join([s, f"{s.title()} Works", "ETF"]) for s in SYMBOLS]
    (folder / "instruments.tsv").write_text("Sym\tLong Name\tAsset Class\n" + "\n".join(lines) + "\n")
    rows = [
        "\t".join([symbol, f"{day:%m/%d/%Y}", *[str(value) for value in values]])
        for symbol, day, *values in plain().iter_rows()
    ]
    (folder / "eod.tsv").write_text("Sym\tDay\tO\tH\tL\tC\tV\n" + "\n".join(rows) + "\n")
    sides = {
        right: chain().filter(pl.col("right") == right).select(
            "symbol", "expiration", "strike", "underlying",
            pl.col("bid").alias(f"{word} Bid"), pl.col("ask").alias(f"{word} Ask"),
            pl.col("open_interest").alias(f"{word} OI"),
        )
        for right, word in (("C", "Call"), ("P", "Put"))
    }  # fmt: skip
    wide = sides["C"].join(sides["P"], on=["symbol", "expiration", "strike", "underlying"])
    wide.with_columns(pl.lit(round(TAKEN.timestamp() * 1000)).alias("Quote Time")).rename(
        {"symbol": "Stock", "expiration": "Expiry", "strike": "Strike", "underlying": "Spot"}
    ).write_csv(folder / "board.tsv", separator="\t")
    return [folder / "instruments.tsv", folder / "eod.tsv", folder / "board.tsv"]


def dunlin(folder: Path) -> list[Path]:
    """A workbook with a sheet a kind."""
    book = openpyxl.Workbook()
    book.remove(book.active)
    quotes = chain().with_columns(taken_at=pl.lit("2026-09-09 15:45:00"))
    for title, rows in (
        ("Names", [["Symbol", "Description"], *[[s, f"{s.title()} Works"] for s in SYMBOLS]]),
        ("Daily Bars", [plain().columns, *plain().rows()]),
        ("Chains", [quotes.columns, *quotes.rows()]),
    ):
        page = book.create_sheet(title)
        for row in rows:
            page.append(row)
    book.save(folder / "dunlin.xlsx")
    return [folder / "dunlin.xlsx"] * 3


@pytest.mark.parametrize(
    ("supplier", "kinds", "hints"),
    [
        (harbour, (None, None, None), {}),
        (cinder, (None, None, None), {}),
        (dunlin, ("names", "daily_bars", "chains"), {"zone": "America/New_York"}),
    ],
)
def test_what_a_supplier_has_is_understood(store: Engine, tmp_path: Path, supplier, kinds, hints: dict):
    told = [
        import_file(store, Asked(path, kind, supplier.__name__, hints=Hints(**hints) if kind == "chains" else Hints()))
        for path, kind in zip(supplier(tmp_path), kinds, strict=True)
    ]
    assert [one.kind for one in told] == ["names", "daily_bars", "chains"]
    assert [counts(one) for one in told] == [(3, 0, 0, 0), (bars().height, 0, 0, 0), (chain().height, 0, 0, 0)]
    # They all say the same.
    own = tmp_path / "own"
    own.mkdir()
    for path in harbour(own):
        outcome = load(store, path)
        assert outcome.refused == 0
        if outcome.kind == "daily_bars":
            assert counts(outcome) == (0, 0, bars().height, 0)
    if supplier is not cinder:
        assert outcome.same == chain().height


def test_the_second_one_is_asked_for_the_time_of_its_chains_alone(store: Engine, tmp_path: Path):
    names, prices, quotes = abacus(tmp_path)
    assert counts(brought(store, names, "abacus")) == (3, 0, 0, 0)
    assert counts(brought(store, prices, "abacus")) == (bars().height, 0, 0, 0)
    with pytest.raises(CannotMatch, match="chains need taken_at"):
        import_file(store, Asked(quotes, "chains", "abacus"))
    own = tmp_path / "own"
    own.mkdir()
    [_, same, _] = harbour(own)
    assert counts(load(store, same)) == (0, 0, bars().height, 0), "commas and points were taken for what they are"


def test_the_fifth_one_tells_volatility_in_percent_and_times_without_a_zone(store: Engine, tmp_path: Path):
    for path in harbour(tmp_path)[:2]:
        load(store, path)
    days = [dt.date(2026, 6, 1) + dt.timedelta(days=n) for n in range(5)]
    (tmp_path / "vols.csv").write_text(
        "ticker,date,IV30,IV90\n" + "\n".join(f"AVERA,{day:%Y%m%d},{25 + n}.5,{24 + n}" for n, day in enumerate(days))
    )
    assert counts(brought(store, tmp_path / "vols.csv", "ember")) == (5, 0, 0, 0)
    v = VolatilityDay
    assert read_table(store, select(v.iv30, v.iv90).order_by(v.session)).row(0) == pytest.approx((0.255, 0.24))
    chain().with_columns(taken_at=pl.lit("2026-09-09 15:45:00")).write_csv(tmp_path / "quotes.csv")
    with pytest.raises(CannotMatch, match="have no offset: say the zone"):
        brought(store, tmp_path / "quotes.csv", "ember")
    assert counts(brought(store, tmp_path / "quotes.csv", "ember", zone="America/New_York")) == (
        chain().height,
        0,
        0,
        0,
    )
    assert read_contracts(store, TAKEN).height == chain().height
    # What was said is remembered of the source.
    later = TAKEN + dt.timedelta(minutes=10)
    chain().with_columns(taken_at=pl.lit("2026-09-09 15:55:00")).write_csv(tmp_path / "later.csv")
    assert brought(store, tmp_path / "later.csv", "ember").added == chain().height
    assert read_contracts(store, later).height == chain().height


def test_the_sixth_one_differs_and_that_is_told(store: Engine, tmp_path: Path):
    for path in harbour(tmp_path)[:2]:
        import_file(store, Asked(path, source="harbour"))
    off = (pl.col("symbol") == "BONTI") & (pl.col("session") >= dt.date(2026, 9, 1))
    odd = plain().with_columns(close=pl.when(off).then(pl.col("close") * 1.02).otherwise("close"))
    odd = odd.with_columns(high=pl.max_horizontal("high", "close"))
    odd.with_columns(volume=None).write_csv(tmp_path / "fjord.csv", separator="|")
    brought(store, tmp_path / "fjord.csv", "fjord")
    told = {one.column: one for one in disagreements(store)}
    close = told["close"]
    days = plain().filter(off)["session"].unique().sort()
    assert (close.served_by, close.other, close.names, close.times) == ("harbour", "fjord", 1, days.len())
    assert (close.first, close.last) == (days[0], days[-1])
    assert {at.symbol for at in close.widest} == {"BONTI"}
    assert close.widest[0].apart == pytest.approx(0.02, rel=0.01)
    assert told["volume"].names == 3, "it tells no shares of any"


def test_two_sides_beside_each_other_become_rows_of_their_own(tmp_path: Path):
    (tmp_path / "board.csv").write_text(
        "symbol,taken_at,expiration,strike,bid_call,ask_call,CallVolume,put_bid,p_ask,note\n"
        "AVERA,2026-09-09T15:45:00-04:00,2026-09-18,100,1.5,1.6,7,2.5,2.6,x\n"
        "AVERA,2026-09-09T15:45:00-04:00,2026-09-18,105,0.5,0.6,,,,y\n"
    )
    table = open_table(tmp_path / "board.csv")
    assert table.columns == ["symbol", "taken_at", "expiration", "strike", "note", "right", "bid", "ask", "volume"]
    [batch] = table.batches()
    assert batch.line.tolist() == [2, 2, 3], "a side that says nothing is no contract"
    assert batch.cells.select("strike", "right", "bid", "ask", "volume").rows() == [
        ("100", "C", "1.5", "1.6", "7"), ("100", "P", "2.5", "2.6", None), ("105", "C", "0.5", "0.6", ""),
    ]  # fmt: skip


def test_refused_rows_of_two_sides_come_back_in_a_shape_that_loads(store: Engine, tmp_path: Path):
    for path in harbour(tmp_path)[:2]:
        load(store, path)
    (tmp_path / "board.csv").write_text(
        "symbol,taken_at,expiration,strike,underlying,call_bid,call_ask,put_bid,put_ask\n"
        "AVERA,2026-09-09T15:45:00-04:00,2026-09-18,100,100,1.5,1.6,soon,2.6\n"
    )
    outcome = import_file(store, Asked(tmp_path / "board.csv", "chains", refused=tmp_path / "chains-refused.csv"))
    assert counts(outcome) == (1, 0, 0, 1)
    text = (tmp_path / "chains-refused.csv").read_text()
    (tmp_path / "chains-refused.csv").write_text(text.replace("soon", "2.5", 1))
    assert counts(load(store, tmp_path / "chains-refused.csv")) == (1, 0, 0, 0)


@given(
    st.lists(
        st.sampled_from(["symbol", "strike", "right", "bid", "ask", "call_bid", "put_bid", "call_ask", "cusip", "c"]),
        unique=True,
    )
)
def test_what_has_not_both_sides_is_left_as_it_is(columns: list[str]):
    assert wide_columns(columns) is None, "no put has an ask"
