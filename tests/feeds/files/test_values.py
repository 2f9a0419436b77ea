"""What a column means is told from the whole of it, asked where more than one way fits, and never guessed row by row."""

from __future__ import annotations

import datetime as dt
from pathlib import Path

import polars as pl
import pytest

from flinch.feeds.files.kinds import KINDS
from flinch.feeds.files.matching import CannotMatch, guess_kind, lacking, match_columns
from flinch.feeds.files.reading import open_table
from flinch.feeds.files.values import Before, Hints, known_zone, learn, typed_rows


def rows(path: Path, kind: str, text: str | pl.DataFrame, **said: object) -> tuple[pl.DataFrame, list[str | None]]:
    """A file's rows as values, and why each is refused."""
    file = path / ("rows.csv" if isinstance(text, str) else "rows.parquet")
    file.write_text(text) if isinstance(text, str) else text.write_parquet(file)
    table, one = open_table(file), KINDS[kind]
    matched = match_columns(one, table.columns)
    assert lacking(one, matched) == []
    reading = learn(table.batches(), one, matched, Hints(**said))
    frames, reasons = zip(*[typed_rows(batch, one, reading) for batch in table.batches()], strict=True)
    return pl.concat(frames), [reason for part in reasons for reason in part.to_list()]


BARS = "Ticker,{date},o,h,l,c,vol\nTARNO,{first},1,3,1,2,100\nTARNO,{second},2,3,1,2,\n"


@pytest.mark.parametrize(
    ("first", "second"),
    [
        ("2026-09-08", "2026-09-09"), ("20260908", "20260909"), ("2026/09/08", "2026/09/09"), ("08.09.2026", "09.09.2026"),
        ("8-Sep-2026", "9-Sep-2026"), ("08 Sep 2026", "09 Sep 2026"), ("260908", "260909"),
    ],
)  # fmt: skip
def test_days_of_every_usual_order(tmp_path: Path, first: str, second: str):
    found, reasons = rows(tmp_path, "daily_bars", BARS.format(date="Trade Date", first=first, second=second))
    assert found["session"].to_list() == [dt.date(2026, 9, 8), dt.date(2026, 9, 9)]
    assert found["volume"].to_list() == [100, None]
    assert reasons == [None, None]


def test_the_whole_column_tells_which_of_two_orders_it_is_and_else_it_is_asked(tmp_path: Path):
    told, _ = rows(tmp_path, "daily_bars", BARS.format(date="Date", first="09/08/2026", second="09/21/2026"))
    assert told["session"].to_list() == [dt.date(2026, 9, 8), dt.date(2026, 9, 21)]
    told, _ = rows(tmp_path, "daily_bars", BARS.format(date="Date", first="08/09/2026", second="21/09/2026"))
    assert told["session"].to_list() == [dt.date(2026, 9, 8), dt.date(2026, 9, 21)]
    both = BARS.format(date="Date", first="09/08/2026", second="09/09/2026")
    with pytest.raises(CannotMatch, match="'Date' may be month/day/year or day/month/year: say which"):
        rows(tmp_path, "daily_bars", both)
    told, _ = rows(tmp_path, "daily_bars", both, days={"session": "%d/%m/%Y"})
    assert told["session"].to_list() == [dt.date(2026, 8, 9), dt.date(2026, 9, 9)]
    # A year of two digits is no year of the first century.
    told, _ = rows(tmp_path, "daily_bars", BARS.format(date="Date", first="09/08/26", second="09/21/26"))
    assert told["session"].to_list() == [dt.date(2026, 9, 8), dt.date(2026, 9, 21)]
    # How the file before was read decides what is left open, and nothing else.
    before = Before({"session": "%d/%m/%Y"})
    told, _ = rows(tmp_path, "daily_bars", both, before=before)
    assert told["session"].to_list() == [dt.date(2026, 8, 9), dt.date(2026, 9, 9)]
    clear = BARS.format(date="Date", first="09/08/2026", second="09/21/2026")
    told, _ = rows(tmp_path, "daily_bars", clear, before=before)
    assert told["session"].to_list() == [dt.date(2026, 9, 8), dt.date(2026, 9, 21)]
    # Where both read the same there is nothing to ask.
    told, _ = rows(tmp_path, "daily_bars", BARS.format(date="Date", first="09/09/2026", second="08/08/2026"))
    assert told["session"].to_list() == [dt.date(2026, 9, 9), dt.date(2026, 8, 8)]


@pytest.mark.parametrize(
    ("written", "numbers"),
    [
        (["1234.5", "0.25", "1e3"], [1234.5, 0.25, 1000.0]),
        (["1,234.5", "12", "-7"], [1234.5, 12.0, None]),
        (["1.234,5", "0,25", "12"], [1234.5, 0.25, 12.0]),
        (["$12.50", "25 %", "n/a"], [12.5, 0.25, None]),
        (["12 apples", "1.2.3", ""], [None, None, None]),
    ],
)
def test_numbers_with_either_decimal_mark(tmp_path: Path, written: list[str], numbers: list[float | None]):
    lines = "\n".join(f'TARNO,2026-09-{n + 1:02},"{cell}"' for n, cell in enumerate(written))
    found, reasons = rows(tmp_path, "dividends", f"symbol,ex_date,amount\n{lines}\n")
    kept = [value if reason is None else None for value, reason in zip(found["amount"].to_list(), reasons, strict=True)]
    assert kept == numbers
    assert all(reasons[n] is not None for n, number in enumerate(numbers) if number is None)


CHAIN = "symbol,at,option_symbol,spot,bid,ask,vol,oi\n"
ONE = "TARNO,{at},TARNO 260918C00057500,56.8,1.10,1.20,12,340\n"
INSTANT = dt.datetime(2026, 9, 9, 19, 45, tzinfo=dt.UTC)


@pytest.mark.parametrize(
    "at",
    [
        "2026-09-09T19:45:00Z", "2026-09-09T15:45:00-04:00", "2026-09-09 15:45:00.000-04:00", "1788983100", "1788983100000",
        "1788983100000000", "1788983100000000000",
    ],
)  # fmt: skip
def test_instants_with_an_offset_or_since_1970(tmp_path: Path, at: str):
    found, reasons = rows(tmp_path, "chains", CHAIN + ONE.format(at=at))
    assert (found["taken_at"].to_list(), reasons) == ([INSTANT], [None])


def test_an_instant_without_an_offset_is_asked_for_its_zone(tmp_path: Path):
    text = CHAIN + ONE.format(at="2026-09-09 15:45:00")
    with pytest.raises(CannotMatch, match="have no offset: say the zone"):
        rows(tmp_path, "chains", text)
    found, _ = rows(tmp_path, "chains", text, zone="America/New_York")
    assert found["taken_at"].to_list() == [INSTANT]
    with pytest.raises(CannotMatch, match="no zone 'Mars/Base'"):
        known_zone("Mars/Base")


def test_a_contract_is_its_symbol_or_its_three(tmp_path: Path):
    found, reasons = rows(tmp_path, "chains", CHAIN + ONE.format(at="2026-09-09T19:45:00Z"))
    assert found.select("expiration", "strike", "right").row(0) == (dt.date(2026, 9, 18), 57.5, True)
    at = "TARNO,2026-09-09T19:45:00Z"
    three = f"Ticker,time,Expiry,K,CP,bid,ask\n{at},2026-09-18,57.5,p,1,2\n{at},,60,C,1,2\n"
    found, reasons = rows(tmp_path, "chains", three)
    assert found["right"].to_list() == [False, True]
    assert reasons == [None, "expiration is missing"]
    bad = CHAIN + "TARNO,2026-09-09T19:45:00Z,TARNO260918C57.5,56.8,1,2,3,4\n"
    assert rows(tmp_path, "chains", bad)[1] == ["option_symbol is no contract: TARNO260918C57.5"]


def test_typed_columns_are_taken_as_they_are(tmp_path: Path):
    frame = pl.DataFrame(
        {
            "symbol": ["TARNO"],
            "session": [dt.date(2026, 9, 9)],
            **{key: [2.5] for key in ("open", "high", "low", "close")},
            "volume": [7],
        }
    )
    found, reasons = rows(tmp_path, "daily_bars", frame)
    assert (found.row(0), reasons) == (("TARNO", dt.date(2026, 9, 9), 2.5, 2.5, 2.5, 2.5, 7.0), [None])


def test_each_row_says_what_is_wrong_with_it(tmp_path: Path):
    text = "symbol,session,open,high,low,close,volume\n" + "\n".join(
        ["TARNO,2026-09-09,1,2,1,2,3", ",2026-09-09,1,2,1,2,3", "a b c,2026-09-09,1,2,1,2,3", "TARNO,2026-09-31,1,2,1,2,3",
         "TARNO,2026-09-09,one,2,1,2,3", "TARNO,2026-09-09,1,2,,2,3", "TARNO,2026-09-09,1,2,1,2,-3", "TARNO,2026-09-09,1"]
    )  # fmt: skip
    assert rows(tmp_path, "daily_bars", text)[1] == [
        None, "symbol is missing", "symbol is no text: a b c", "session is no day: 2026-09-31",
        "open is no number that can be: one",
        "low is missing", "volume is no number that can be: -3", "the row has 3 cells, the header 7",
    ]  # fmt: skip


@pytest.mark.parametrize(
    ("name", "columns", "kind"),
    [
        ("chains-2026-09-08.parquet", ["x"], "chains"),
        ("daily_bars.csv.gz", ["x"], "daily_bars"),
        ("prices.csv", ["Symbol", "Date", "Open", "High", "Low", "Close", "Volume"], "daily_bars"),
        (
            "options.csv",
            ["underlyingSymbol", "quoteTime", "expirationDate", "strikePrice", "optionType", "bid", "ask"],
            "chains",
        ),
        ("list.csv", ["Ticker", "Security Name", "Sector"], "names"),
        ("calendar.csv", ["ticker", "report_date", "when"], "earnings_dates"),
        ("holdings.csv", ["etf", "ticker", "weight"], "fund_members"),
    ],
)
def test_the_kind_of_a_file_is_told_by_its_name_or_columns(name: str, columns: list[str], kind: str):
    assert guess_kind(Path(name), columns) == kind


def test_what_cannot_be_told_is_asked(tmp_path: Path):
    with pytest.raises(CannotMatch, match="say one of names, daily_bars"):
        guess_kind(Path("file.csv"), ["alpha", "beta"])
    bars = KINDS["daily_bars"]
    assert lacking(bars, match_columns(bars, ["ticker", "date", "open", "high", "close"])) == ["low"]
    assert match_columns(bars, ["A", "close", "Adj Close"], {"Adj Close": "close"})["close"] == "Adj Close", (
        "what is told wins"
    )
    with pytest.raises(CannotMatch, match="no column 'Z'"):
        match_columns(bars, ["A"], {"Z": "close"})
    with pytest.raises(CannotMatch, match="have no column 'vwap'"):
        match_columns(bars, ["A"], {"A": "vwap"})
    three = KINDS["chains"]
    assert lacking(three, match_columns(three, ["symbol", "taken_at", "contract", "bid"])) == []
    assert lacking(three, match_columns(three, ["symbol", "taken_at", "strike", "bid"])) == ["expiration", "right"]


def test_typed_columns_of_another_type_are_read_as_text_is(tmp_path: Path):
    """Numbers that stand for days or moments are those, and not days since 1970."""
    bars = pl.DataFrame(
        {"symbol": ["TARNO"], "session": [20260909], **{key: ["2.5"] for key in ("open", "high", "low", "close")}}
    )
    found, reasons = rows(tmp_path, "daily_bars", bars)
    assert (found["session"].to_list(), found["close"].to_list(), reasons) == ([dt.date(2026, 9, 9)], [2.5], [None])
    quote = pl.DataFrame(
        {"symbol": ["TARNO"], "taken_at": [1788983100], "contract": ["TARNO 260918C00057500"], "bid": [1]}
    )
    found, reasons = rows(tmp_path, "chains", quote)
    assert (found["taken_at"].to_list(), reasons) == ([INSTANT], [None])
    nested = quote.with_columns(bid=pl.Series([[1.0, 2.0]]))
    with pytest.raises(CannotMatch, match="'bid' holds List"):
        rows(tmp_path, "chains", nested)


def test_typed_moments_without_a_zone_are_asked_for_it_too(tmp_path: Path):
    quote = pl.DataFrame(
        {"symbol": ["TARNO"], "taken_at": [dt.datetime(2026, 9, 9, 15, 45)], "contract": ["TARNO 260918C00057500"]}
    )
    with pytest.raises(CannotMatch, match="have no offset: say the zone"):
        rows(tmp_path, "chains", quote)
    assert rows(tmp_path, "chains", quote, zone="America/New_York")[0]["taken_at"].to_list() == [INSTANT]


def test_what_is_said_of_columns_or_days_that_are_not_there_is_refused(tmp_path: Path):
    text = BARS.format(date="Date", first="2026-09-08", second="2026-09-09")
    for said, words in (
        ({"days": {"session": "%H"}}, "not written as '%H'; say one of %Y-%m-%d"),
        ({"days": {"day": "%Y-%m-%d"}}, "daily_bars have no column 'day'"),
        ({"percent": frozenset({"weight"})}, "daily_bars have no column 'weight'"),
    ):
        with pytest.raises(CannotMatch, match=words):
            rows(tmp_path, "daily_bars", text, **said)


FUNDS = "fund,symbol,weight\nAVERA,BONTI,{a}\nAVERA,CELDA,{b}\nDERVI,BONTI,{c}\n"


@pytest.mark.parametrize(
    ("weights", "said", "wanted"),
    [
        ((0.25, 0.75, 1), {}, [0.25, 0.75, 1.0]),
        ((25, 75, 100), {}, [0.25, 0.75, 1.0]),
        (("25 %", "75 %", "100%"), {}, [0.25, 0.75, 1.0]),
        ((5, 4, 0.5), {"percent": frozenset({"weight"})}, [0.05, 0.04, 0.005]),
        ((0.5, 0.4, 0.5), {"percent": frozenset({"weight"})}, [0.005, 0.004, 0.005]),
        ((5, 4, 0.5), {"decimals": frozenset({"weight"})}, [5, 4, 0.5]),
        ((5, 4, 0.5), {"before": Before(percent=frozenset({"weight"}))}, [0.05, 0.04, 0.005]),
        ((5, 4, 0.5), {"before": Before(decimals=frozenset({"weight"}))}, [5, 4, 0.5]),
        ((25, 75, 100), {"before": Before(decimals=frozenset({"weight"}))}, [0.25, 0.75, 1.0]),
    ],
)
def test_percent_is_told_by_what_values_come_to(tmp_path: Path, weights: tuple, said: dict, wanted: list[float]):
    told, _ = rows(tmp_path, "fund_members", FUNDS.format(a=weights[0], b=weights[1], c=weights[2]), **said)
    assert told["weight"].to_list() == pytest.approx(wanted)


@pytest.mark.parametrize("weights", [(5, 4, 0.5), (1.2, 0.4, 0.5), (19, 19, 1)])
def test_weights_that_may_be_either_are_asked(tmp_path: Path, weights: tuple[float, ...]):
    with pytest.raises(
        CannotMatch, match=r"'weight' come to .* a fund: say whether they are decimals or in percent"
    ) as error:
        rows(tmp_path, "fund_members", FUNDS.format(a=weights[0], b=weights[1], c=weights[2]))
    assert error.value.where == "weight"


def test_volatilities_are_decimals_or_percent_by_their_mean(tmp_path: Path):
    head = "symbol,date,iv30\nTARNO,2026-09-08,{}\nVILNI,2026-09-08,{}\nVUSVO,2026-09-08,NA\n"
    for values, wanted in (((0.2, 3.1), [0.2, 3.1]), ((20, 310), [0.2, 3.1]), (("20,5", "31"), [0.205, 0.31])):
        text = head.format(*values).replace(",", ";") if isinstance(values[0], str) else head.format(*values)
        text = text.replace("20;5", "20,5")
        told, reasons = rows(tmp_path, "volatility_days", text)
        assert told["iv30"].to_list()[:2] == pytest.approx(wanted)
        assert reasons == [None, None, None]
    with pytest.raises(CannotMatch, match=r"'iv30' are 3\.5 on average"):
        rows(tmp_path, "volatility_days", head.format(3, 4))
    frame = pl.DataFrame({"symbol": ["TARNO"], "date": [dt.date(2026, 9, 8)], "iv30": [31.5]})
    told, _ = rows(tmp_path, "volatility_days", frame)
    assert told["iv30"].to_list() == pytest.approx([0.315])
