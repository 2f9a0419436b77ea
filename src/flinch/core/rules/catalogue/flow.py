"""What the session's option trades came to: who paid, for which right, how large, how unusual for the name."""

from __future__ import annotations

from functools import partial

from flinch.core.rules.catalogue.metric import Metric, computed, read

GROUP = "option flow"
_TAPE = "the session's option trades"
_UNKNOWN = "no option trades of this session are kept"
_SIDES = {
    "ask": "at the ask or nearer to it",
    "bid": "at the bid or nearer to it",
    "mid": "exactly between bid and ask, or without a quote",
}
_ALONE = "Legs of packages are left out."

_flow = partial(computed, GROUP)


def _read(key: str, label: str, short: str, unit: str, definition: str, *, scale: str = "log") -> Metric:
    return read(GROUP, key, label, short, unit, key, _TAPE, definition, _UNKNOWN, decimals=0, scale=scale)  # type: ignore[arg-type]


def _premium(right: str, side: str) -> Metric:
    return _read(
        f"{right}_{side}_premium", f"{right.capitalize()} premium {'at mid' if side == 'mid' else f'on the {side} side'}",
        f"{right.capitalize()}s {side}", "$", f"Premium of {right}s that traded {_SIDES[side]}. {_ALONE}",
    )  # fmt: skip


def _ratio(key: str, of: str, label: str, short: str, definition: str) -> Metric:
    return _flow(key, label, short, "×", f"{of} / mean({of}, 60)", definition)


ENTRIES = (
    *[_premium(right, side) for right in ("call", "put") for side in ("ask", "bid", "mid")],
    _flow("call_premium", "Call premium", "Call $", "$", "call_ask_premium + call_bid_premium + call_mid_premium",
          f"Premium of all calls that traded, on whatever side. {_ALONE}", decimals=0),
    _flow("put_premium", "Put premium", "Put $", "$", "put_ask_premium + put_bid_premium + put_mid_premium",
          f"Premium of all puts that traded, on whatever side. {_ALONE}", decimals=0),
    _flow("flow_premium", "Option premium", "Premium", "$", "call_premium + put_premium",
          f"Premium of all options that traded. {_ALONE}", decimals=0),
    _flow(
        "net_premium", "Net premium", "Net $", "$",
        "call_ask_premium - call_bid_premium - put_ask_premium + put_bid_premium",
        "Premium that leans up (calls on the ask side, puts on the bid side) less premium that leans down. A fact about trades, not "
        f"about their owners: what they hedge is not known. {_ALONE}", decimals=0, scale="linear",
    ),
    _flow(
        "net_lean", "Net lean", "Lean", "%", "100 * net_premium / flow_premium",
        "Net premium in percent of all premium: +100 when everything leans up, -100 when everything leans down.", decimals=0,
    ),
    _ratio("premium_ratio", "flow_premium", "Premium over its own mean", "Prem ×",
           "The session's option premium over the mean of sixty sessions, its own among them."),
    _ratio("call_premium_ratio", "call_premium", "Call premium over its own mean", "Calls ×",
           "The session's call premium over the mean of sixty sessions, its own among them."),
    _ratio("put_premium_ratio", "put_premium", "Put premium over its own mean", "Puts ×",
           "The session's put premium over the mean of sixty sessions, its own among them."),
    _flow("put_call_premium", "Put over call premium", "P/C $", "×", "put_premium / call_premium",
          "Put premium for each dollar of call premium. Money, where the ratio of contracts counts a cent like a dollar."),
    _read("ask_contracts", "Contracts on the ask side", "Ask ctr", "contracts",
          f"Contracts that traded {_SIDES['ask']}. {_ALONE}"),
    _read("bid_contracts", "Contracts on the bid side", "Bid ctr", "contracts",
          f"Contracts that traded {_SIDES['bid']}. {_ALONE}"),
    _flow("flow_ask_share", "Ask share", "Ask %", "%", "100 * ask_contracts / (ask_contracts + bid_contracts)",
          "Contracts on the ask side in percent of those whose side is known.", decimals=0),
    _read("tickets", "Tickets", "Tickets", "", f"Option trades that are taken to be one decision each. {_ALONE}"),
    _read("sweep_premium", "Premium of sweeps", "Sweeps $", "$",
          f"Premium of tickets that took several venues within half a second: somebody did not want to wait. {_ALONE}"),
    _flow("sweep_share", "Sweeps' share", "Sweep %", "%", "100 * sweep_premium / flow_premium",
          "Premium of sweeps in percent of all premium.", decimals=0),
    _read("package_premium", "Premium of packages", "Pkg $", "$",
          "Premium of tickets that are legs of something done as one: spreads, straddles, rolls into one price. They are no views of "
          "their own."),
    _flow("package_share", "Packages' share", "Pkg %", "%", "100 * package_premium / (flow_premium + package_premium)",
          "Premium of packages in percent of all premium, theirs among it.", decimals=0),
    _read("outside_call_premium", "Out-of-the-money calls on the ask side", "OTM calls", "$",
          f"Premium of calls on the ask side whose strike lay above the price of the stock. {_ALONE}"),
    _flow("outside_call_share", "Out-of-the-money calls' share", "OTM %", "%", "100 * outside_call_premium / call_premium",
          "Out-of-the-money calls on the ask side in percent of all call premium.", decimals=0),
    _read("opening_call_premium", "Calls that open, on the ask side", "Open calls", "$",
          "Premium of calls on the ask side that are likely or certain to have opened: more than was open in the morning. Next "
          f"morning's open interest is not used. {_ALONE}"),
    _read("opening_put_premium", "Puts that open, on the ask side", "Open puts", "$",
          f"Premium of puts on the ask side that are likely or certain to have opened. {_ALONE}"),
    _flow("opening_premium", "Premium that opens", "Opening $", "$", "opening_call_premium + opening_put_premium",
          "Premium on the ask side that is likely or certain to have opened, calls and puts.", decimals=0),
    _flow("opening_share", "Share that opens", "Opening %", "%", "100 * opening_premium / flow_premium",
          "Premium on the ask side that opens in percent of all premium.", decimals=0),
    _ratio("opening_ratio", "opening_premium", "Premium that opens over its own mean", "Opening ×",
           "Premium on the ask side that opens over its mean of sixty sessions, the session's own among them."),
    _flow("opening_lean", "Lean of what opens", "Open lean", "%",
          "100 * (opening_call_premium - opening_put_premium) / opening_premium",
          "Calls that open less puts that open, in percent of both: where bought options that are new point.", decimals=0),
    _read("largest_call_premium", "Largest call ticket", "Max call", "$", f"Premium of the session's largest call ticket. {_ALONE}"),
    _read("largest_put_premium", "Largest put ticket", "Max put", "$", f"Premium of the session's largest put ticket. {_ALONE}"),
    _flow("largest_premium", "Largest ticket", "Largest", "$", "larger(largest_call_premium, largest_put_premium)",
          "Premium of the session's largest ticket.", decimals=0),
    _ratio("largest_ratio", "largest_premium", "Largest ticket over its own mean", "Largest ×",
           "The session's largest ticket over the mean of the largest tickets of sixty sessions, its own among them."),
    _flow("largest_rank", "Largest ticket among its own", "Size rank", "0–100", "rank_pct(largest_premium, 61)",
          "The share of the last sixty sessions whose largest ticket was smaller."),
    _flow("call_novelty", "First call ticket of this size in", "Call new", "sessions",
          "sessions_since_as_high(largest_call_premium)",
          "Sessions since a call ticket was last as large as the session's largest; where there was none, all sessions held."),
    _flow("put_novelty", "First put ticket of this size in", "Put new", "sessions",
          "sessions_since_as_high(largest_put_premium)",
          "Sessions since a put ticket was last as large as the session's largest; where there was none, all sessions held."),
    _flow("novelty", "First ticket of this size in", "First in", "sessions", "larger(call_novelty, put_novelty)",
          "The larger of the two: how long the name has not seen such a ticket, in calls or in puts."),
    _read("repeats", "Repeated strike", "Repeats", "",
          f"The most tickets of $10,000 or more on the ask side of one contract: the same strike again and again. {_ALONE}"),
    _read("net_shares", "Net share equivalent", "Net shs", "shares",
          "Delta times contracts times shares a contract, signed by the side and added up over all trades whose side is known, legs of "
          "packages among them.", scale="linear"),
    _flow("net_shares_pct", "Net share equivalent over volume", "Net sh %", "%", "100 * net_shares / avg_volume_50",
          "Net share equivalent in percent of the shares that trade a day (50 sessions), so that names compare.", decimals=2),
)  # fmt: skip
