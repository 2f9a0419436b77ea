"""Who leans on the stock: gamma exposure, and open interest by strike."""

from __future__ import annotations

from functools import partial

from flinch.core.rules.catalogue.metric import PERCENT, Metric, computed, read

_CHAIN = "the session's option chain"
_SIGN = "Assumes that customers sell calls and buy puts, so that dealers are long calls and short puts."
_FORMULA = "gamma × open interest × multiplier × price² × 1 %"
_PAPERS = "Ni, Pearson, Poteshman & White (2021); Baltussen, Da, Lammers & Martens (2021)"
_UNREAD = "no open contract has a volatility that could be read"
_UNOPENED = "the session before has no chain to compare with"
_UNIT = "$ a %"

_exposure = partial(computed, "gamma exposure")
_interest = partial(computed, "open interest")


def _read_exposure(key: str, label: str, short: str, definition: str) -> Metric:
    return read("gamma exposure", key, label, short, _UNIT, key, _CHAIN, definition, _UNREAD)


def _read_interest(
    key: str, label: str, short: str, unit: str, definition: str, missing: str, *, field: str = "", factor: float = 1.0
) -> Metric:
    return read(
        "open interest",
        key,
        label,
        short,
        unit,
        field or key,
        _CHAIN,
        definition,
        missing,
        factor=factor,
        scale="linear",
    )


def _change(sessions: int) -> Metric:
    said = "the previous session" if sessions == 1 else f"{sessions} sessions ago"
    return _exposure(
        f"net_exposure_change_{sessions}", f"{sessions}-session change of net exposure",
        f"Net chg {sessions}", _UNIT, f"change(net_exposure, {sessions})",
        f"Net gamma exposure now less that of {said}: what trades, time, volatility and the price's own way have added.",
    )  # fmt: skip


ENTRIES = (
    _exposure(
        "net_exposure", "Net gamma exposure", "Net exp", _UNIT, "call_exposure + put_exposure",
        "What dealers have to trade against a 1 % move, in dollars: above zero they sell into rises and buy into falls, which damps; "
        f"below zero they chase, which feeds the move. {_SIGN}", source=_PAPERS,
    ),
    _read_exposure(
        "call_exposure", "Call gamma exposure", "Call exp",
        f"The part of exposure that lies in calls: {_FORMULA}, added up over all standard contracts. {_SIGN}",
    ),
    _read_exposure(
        "put_exposure", "Put gamma exposure", "Put exp",
        f"The part of exposure that lies in puts, below zero: {_FORMULA}, added up over all standard contracts. {_SIGN}",
    ),
    _exposure(
        "gross_exposure", "Gross gamma exposure", "Gross exp", _UNIT, "call_exposure - put_exposure",
        "Calls and puts without sign: the hedging of a 1 % move if dealers were long everything. It needs no assumption about sides.",
    ),
    _exposure(
        "net_exposure_pct", "Net exposure over daily value", "Net %", "%", "100 * net_exposure / avg_dollar_volume_21",
        f"Net gamma exposure in percent of the value that trades a day (21 sessions), so that names compare. {_SIGN}", decimals=2,
    ),
    _exposure(
        "gross_exposure_pct", "Gross exposure over daily value", "Gross %", "%", "100 * gross_exposure / avg_dollar_volume_21",
        "Gross gamma exposure in percent of the value that trades a day (21 sessions).", decimals=2, scale="log",
    ),
    _exposure(
        "call_put_exposure", "Call exposure over put exposure", "C/P exp", "×", "call_exposure / -put_exposure",
        "Gamma in calls for each unit of gamma in puts. It needs no assumption about sides; above one, net exposure is above zero.",
    ),
    read(
        "gamma exposure", "net_exposure_before", "Net exposure at the last snapshot", "Net bef", _UNIT, "net_exposure_before", _CHAIN,
        f"Net gamma exposure as of the snapshot before the newest one of the session. {_SIGN}",
        "snapshots within a session are kept for the newest one only",
    ),
    _exposure(
        "net_exposure_change", "Snapshot change of net exposure", "Net chg", _UNIT, "net_exposure - net_exposure_before",
        "Net gamma exposure now less that of the snapshot before: open interest is counted in the morning, so within a session it "
        "is the price, the volatility and the time that change it.",
    ),
    _change(1),
    _change(5),
    _exposure(
        "net_exposure_change_1_pct", "1-session change of net exposure, percent", "Net chg %", "%",
        "100 * net_exposure_change_1 / abs(lag(net_exposure, 1))",
        "The change since the previous session in percent of the size it had then. Large on a small base: read the dollars first.",
        decimals=0,
    ),
    _exposure(
        "net_exposure_change_share", "1-session change over daily value", "Chg %val", "%",
        "100 * net_exposure_change_1 / avg_dollar_volume_21",
        "The change since the previous session in percent of the value that trades a day, so that names compare.", decimals=2,
    ),
    read(
        "gamma exposure", "flip", "Flip", "Flip", "$", "flip", _CHAIN,
        f"The price nearest to the market at which net gamma exposure, with every gamma worked out anew there, changes sign. {_SIGN}",
        "exposure has one sign within 20 % of the price, or could not be read",
    ),
    _exposure(
        "flip_distance", "Distance to the flip", "To flip", "%", "100 * (flip / close - 1)",
        "How far the flip lies from the price, in percent of it: below zero it lies under the price.", decimals=2,
    ),
    _exposure(
        "flip_distance_moves", "Distance to the flip in expected moves", "Flip σ", "σ", "(flip - close) / next_day_move",
        "How far the flip lies from the price, in moves priced for the next session: below zero it lies under the price.",
    ),
    read(
        "gamma exposure", "near_exposure", "Gross exposure of the next expiration", "Next exp", _UNIT, "near_exposure", _CHAIN,
        "Gross gamma exposure in the next expiration alone.", _UNREAD,
    ),
    read(
        "gamma exposure", "week_exposure", "Gross exposure of this week", "Week exp", _UNIT, "week_exposure", _CHAIN,
        "Gross gamma exposure in expirations up to the end of this week.", _UNREAD,
    ),
    read(
        "gamma exposure", "month_exposure", "Gross exposure of this month", "Mo exp", _UNIT, "month_exposure", _CHAIN,
        "Gross gamma exposure in later expirations up to the end of this month's cycle.", _UNREAD,
    ),
    _exposure(
        "roll_off_share", "Roll-off at the next expiration", "Roll-off", "%", "100 * near_exposure / gross_exposure",
        "The share of gross exposure that ends with the next expiration.",
    ),
    _exposure(
        "week_exposure_share", "Exposure that ends this week", "This wk", "%", "100 * week_exposure / gross_exposure",
        "The share of gross exposure in expirations up to the end of this week.",
    ),
    _exposure(
        "month_exposure_share", "Exposure that ends this month", "This mo", "%", "100 * month_exposure / gross_exposure",
        "The share of gross exposure in expirations after this week, up to the end of this month's cycle.",
    ),
    read(
        "gamma exposure", "peak_exposure_strike", "Strike with most exposure", "Peak", "$", "peak_exposure_strike", _CHAIN,
        "The strike at which gross exposure is largest, all expirations together.", _UNREAD,
    ),
    _exposure(
        "peak_exposure_distance", "Distance to the strike with most exposure", "To peak", "%",
        "100 * (peak_exposure_strike / close - 1)", "How far the strike with most exposure lies from the price, in percent of it.",
        decimals=2,
    ),
    read(
        "gamma exposure", "exposure_left_out", "Open contracts left out of exposure", "Left out", "contracts", "left_out", _CHAIN,
        "Open contracts that no exposure of this name counts, because their expiration has no volatility that could be read.",
        "no open interest is recorded", scale="linear",
    ),
    _interest(
        "open_interest_change_5", "Change of open interest, 5 sessions, contracts", "OI chg 5d", "contracts",
        "change(open_interest, 5)", "Contracts open now less those open five sessions ago; what expired is gone from both sides.",
        scale="linear",
    ),
    _read_interest(
        "opened", "Contracts opened", "Opened", "contracts",
        "Contracts opened less closed in the previous session, counted contract by contract among those listed now: what expired is "
        "not taken for closed.", _UNOPENED,
    ),
    _interest(
        "opened_pct", "Contracts opened, in percent", "Opened %", "%", "100 * opened / (open_interest - opened)",
        "Contracts opened in the previous session in percent of those open before.",
    ),
    _read_interest(
        "opened_above", "Opened above the price", "Opn above", "contracts",
        "Contracts opened less closed in the previous session at strikes above the price.", _UNOPENED,
    ),
    _read_interest(
        "opened_below", "Opened below the price", "Opn below", "contracts",
        "Contracts opened less closed in the previous session at strikes below the price.", _UNOPENED,
    ),
    _interest(
        "opened_above_share", "Opened above the price, of all open", "Above %", "%", "100 * opened_above / open_interest",
        "Contracts opened above the price in the previous session in percent of all open contracts.",
    ),
    _read_interest(
        "interest_above", "Open interest above the price", "OI above", "contracts", "Contracts open at strikes above the price.",
        "no open interest is recorded",
    ),
    _interest(
        "interest_above_share", "Share of open interest above the price", "OI abv %", "%", "100 * interest_above / open_interest",
        "Contracts open at strikes above the price in percent of all open contracts.",
    ),
    _read_interest(
        "largest_build", "Largest build", "Build", "contracts",
        "Contracts opened in the previous session in the one contract that gained most.", "no contract gained open interest",
    ),
    _read_interest(
        "largest_build_base", "Open before the largest build", "Build base", "contracts",
        "What was open in the contract that gained most, before it did. Under 100 a percentage says nothing.",
        "no contract gained open interest",
    ),
    _interest(
        "largest_build_pct", "Largest build, in percent", "Build %", "%", "100 * largest_build / largest_build_base",
        "The largest build in percent of what was open in that contract before. See whether the base is small.", decimals=0,
    ),
    _interest(
        "small_base", "The largest build has a small base", "Small base?", "", "largest_build_base < 100",
        "Fewer than 100 contracts were open before: the percentage is an accident of the base.", kind="condition",
    ),
    read(
        "open interest", "peak_interest_strike", "Strike with most open interest", "Peak OI", "$", "peak_interest_strike", _CHAIN,
        "The strike at which most contracts are open, calls and puts and all expirations together.", "no contract is open",
    ),
    _interest(
        "peak_interest_distance", "Distance to the strike with most open interest", "To peak OI", "%",
        "100 * (peak_interest_strike / close - 1)", "How far the strike with most open interest lies from the price, in percent of it.",
        decimals=2,
    ),
    _read_interest(
        "top_strikes_share", "Open interest in the top five strikes", "Top 5", "%",
        "How concentrated open interest is: the share of it in the five strikes that hold most.", "no contract is open",
        field="top_strikes", factor=PERCENT,
    ),
)  # fmt: skip
