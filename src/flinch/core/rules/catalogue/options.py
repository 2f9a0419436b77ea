"""What options price, what the stock does, and how options trade."""

from __future__ import annotations

from functools import partial

from flinch.core.rules.catalogue.metric import PERCENT, Metric, computed, read

_CHAIN, _ACTIVITY = "the session's option chain", "the session's option activity"
_NO_QUOTES = "no usable option quotes in this session"
_YANG_ZHANG = "Yang & Zhang (2000)"

_implied = partial(computed, "implied volatility")
_historical = partial(computed, "historical volatility")
_against = partial(computed, "implied against historical")
_move = partial(computed, "expected move")
_activity = partial(computed, "option activity and liquidity")
_interest = partial(computed, "open interest")


def _tenor(days: int) -> Metric:
    words = {7: "seven", 14: "fourteen", 30: "thirty", 60: "sixty", 90: "ninety", 180: "180", 365: "365"}[days]
    return read(
        "implied volatility", f"iv{days}", f"Implied volatility, {days} days", f"IV{days}", "%", f"iv{days}", _CHAIN,
        f"The volatility that options price for the next {words} days, annualised: total variance at the money, linear in time "
        "between the two expirations around that day.",
        f"no usable option quotes around {words} days ahead", factor=PERCENT, scale="log",
    )  # fmt: skip


def _historical_of(sessions: int, words: str) -> Metric:
    return _historical(
        f"hv{sessions}", f"Historical volatility, {sessions} sessions", f"HV{sessions}", "%", f"hv({sessions})",
        f"How volatile the stock was over {words}, annualised, overnight gaps included (Yang–Zhang estimator).",
        scale="log", source=_YANG_ZHANG,
    )  # fmt: skip


ENTRIES = (
    *[_tenor(days) for days in (7, 14, 30, 60, 90, 180, 365)],
    read(
        "implied volatility", "iv_nearest", "Implied volatility, nearest expiration", "IV near", "%", "iv_nearest", _CHAIN,
        "The volatility at the money of the nearest expiration that is at least one session away.", _NO_QUOTES,
        factor=PERCENT, scale="log",
    ),
    _implied(
        "iv_rank", "IV rank", "IV rank", "0–100", "range_pct(iv30, 252)",
        "Where implied volatility stands between the lowest and the highest of its last 252 sessions. One old spike keeps it low. "
        "Not the percentile.",
    ),
    _implied(
        "iv_percentile", "IV percentile", "IV pctl", "0–100", "rank_pct(iv30, 252)",
        "The share of the previous 251 sessions whose implied volatility was below today's. Not the rank.",
    ),
    _implied(
        "iv_rank_63", "IV rank, 63 sessions", "IV rank 63", "0–100", "range_pct(iv30, 63)",
        "The rank within about a quarter, for names whose year holds one old spike.",
    ),
    _implied(
        "iv_change_1", "Change of implied volatility, 1 session", "IV chg", "points", "change(iv30, 1)",
        "Points that 30-day implied volatility gained since the previous session.",
    ),
    _implied(
        "iv_change_5", "Change of implied volatility, 5 sessions", "IV chg 5", "points", "change(iv30, 5)",
        "Points that 30-day implied volatility gained in five sessions.",
    ),
    _implied(
        "iv_zscore_63", "Implied volatility in its own deviations", "IV z", "σ", "zscore(iv30, 63)",
        "Distance of 30-day implied volatility from its mean of 63 sessions, in standard deviations.",
    ),
    _implied(
        "iv_mean_252", "Mean implied volatility, 252 sessions", "IV mean", "%", "mean(iv30, 252)",
        "The average of 30-day implied volatility over about a year.", scale="log",
    ),
    _implied(
        "iv_over_mean", "Implied volatility over its year's mean", "IV/mean", "×", "iv30 / mean(iv30, 252)",
        "Above one, options are dearer than they were on average over the year.",
    ),
    _implied("iv_low_252", "Lowest implied volatility, 252 sessions", "IV low", "%", "min(iv30, 252)",
             "The lowest 30-day implied volatility of about a year.", scale="log"),
    _implied("iv_high_252", "Highest implied volatility, 252 sessions", "IV high", "%", "max(iv30, 252)",
             "The highest 30-day implied volatility of about a year.", scale="log"),
    _implied(
        "front_over_month", "Front week over the month", "7d / 30d", "×", "iv7 / iv30",
        "Seven-day over thirty-day implied volatility: high when something is expected within days.",
    ),
    _implied(
        "forward_vol_30_60", "Forward volatility, days 30 to 60", "Fwd 30–60", "%",
        "sqrt((60 * iv60 ** 2 - 30 * iv30 ** 2) / 30)",
        "The volatility priced for the second month alone; missing where total variance does not rise.", scale="log",
    ),
    _historical_of(10, "two weeks"),
    _historical_of(21, "the last 21 sessions"),
    _historical_of(42, "two months"),
    _historical_of(63, "about a quarter"),
    _historical_of(126, "half a year"),
    _historical_of(252, "about a year"),
    _historical(
        "hv21_parkinson", "Historical volatility from ranges, 21 sessions", "HV21 range", "%", 'hv(21, "parkinson")',
        "From each session's high and low only: blind to overnight gaps.", scale="log", source="Parkinson (1980)",
    ),
    _historical(
        "hv21_close", "Historical volatility from closes, 21 sessions", "HV21 close", "%", 'hv(21, "close_to_close")',
        "The standard deviation of daily returns, annualised.", scale="log",
    ),
    _historical(
        "hv21_garman_klass", "Historical volatility from bars, 21 sessions", "HV21 GK", "%", 'hv(21, "garman_klass")',
        "From open, high, low and close of each session: blind to overnight gaps.", scale="log", source="Garman & Klass (1980)",
    ),
    _historical(
        "hv21_rogers_satchell", "Historical volatility whatever the drift, 21 sessions", "HV21 RS", "%",
        'hv(21, "rogers_satchell")', "From each session's bar, not misled by a trend within it; blind to overnight gaps.",
        scale="log", source="Rogers & Satchell (1991)",
    ),
    _historical(
        "hv21_ex_earnings", "Historical volatility without earnings, 21 sessions", "HV21 ex", "%", "hv_ex_earnings(21)",
        "The last 21 sessions in which the price did not react to a report.", scale="log", source=_YANG_ZHANG,
    ),
    _historical(
        "hv63_ex_earnings", "Historical volatility without earnings, 63 sessions", "HV63 ex", "%", "hv_ex_earnings(63)",
        "The last 63 sessions in which the price did not react to a report.", scale="log", source=_YANG_ZHANG,
    ),
    read(
        "historical volatility", "forecast_vol", "Forecast volatility, 21 sessions", "Forecast", "%", "forecast_vol", "daily bars",
        "The volatility expected over the next 21 sessions from that of the last session, five and 21 sessions, with coefficients "
        "estimated on all names from outcomes complete by then (Corsi 2009, on gap and range).",
        "the forecast needs 63 sessions of the name, and the last 21 complete", factor=PERCENT, scale="log",
    ),
    _historical(
        "hv_percentile", "HV percentile", "HV pctl", "0–100", "rank_pct(hv(21), 252)",
        "The share of the previous 251 sessions whose 21-session historical volatility was below today's.",
    ),
    _historical(
        "hv_rank", "HV rank", "HV rank", "0–100", "range_pct(hv(21), 252)",
        "Where 21-session historical volatility stands between the lowest and highest of 252 sessions.",
    ),
    _historical(
        "hv_trend", "Historical volatility trend", "HV trend", "×", "hv(10) / hv(63)",
        "Two weeks against a quarter: above one the stock is getting livelier.",
    ),
    _against(
        "iv_hv_ratio", "Implied over historical volatility", "IV/HV", "×", "iv30 / hv21",
        "How dear options are against what the stock does: above one they price more movement than there was.",
    ),
    _against(
        "iv_hv_spread", "Implied less historical volatility", "IV−HV", "points", "iv30 - hv21",
        "The gap between what is priced and what the stock did, in points.",
    ),
    _against(
        "iv_hv63_ratio", "Implied over a quarter's historical volatility", "IV/HV63", "×", "iv30 / hv63",
        "The same against a longer memory.",
    ),
    _against(
        "iv_hv_ratio_percentile", "Percentile of implied over historical", "IV/HV pctl", "0–100", "rank_pct(iv30 / hv21, 252)",
        "How unusual today's ratio is for this name: the share of the previous 251 sessions in which it was lower.",
    ),
    _against(
        "iv_hv_spread_percentile", "Percentile of implied less historical", "IV−HV pctl", "0–100", "rank_pct(iv30 - hv21, 252)",
        "How unusual today's gap is for this name: the share of the previous 251 sessions in which it was smaller.",
    ),
    _against(
        "iv_minus_forecast", "Implied less forecast volatility", "IV−fcst", "points", "iv30 - forecast_vol",
        "The gap between what options price for the next month and what is forecast for it, in points.",
    ),
    _against(
        "iv_over_forecast", "Implied over forecast volatility", "IV/fcst", "×", "iv30 / forecast_vol",
        "Above one, options price more movement than is forecast.",
    ),
    _against(
        "iv_minus_forecast_percentile", "Percentile of implied less forecast", "IV−fcst pctl", "0–100",
        "rank_pct(iv30 - forecast_vol, 252)",
        "How unusual today's gap is for this name: the share of the previous 251 sessions in which it was smaller.",
    ),
    _against(
        "iv_hv_ex_ratio", "Implied over historical volatility, both without earnings", "IV/HV ex", "×",
        "iv30_ex_earnings / hv_ex_earnings(21)",
        "How dear options are apart from reports, ahead and past.",
    ),
    _against(
        "cone_percentile", "Implied volatility within the cone", "Cone pctl", "0–100", "pct_among(iv30, hv21, 252)",
        "The share of the last 252 sessions whose 21-session historical volatility was below today's implied volatility: where "
        "options stand within all that the stock has done.", source="Burghardt & Lane (1990)",
    ),
    read(
        "implied against historical", "implied_correlation", "Implied correlation", "Impl corr", "", "implied_correlation", _CHAIN,
        "Of a fund: the one correlation between its members that makes their implied volatilities add up to the fund's.",
        {"stock": "only a fund has members", "": "too many members have no implied volatility"}, decimals=2,
    ),
    read(
        "implied against historical", "realised_correlation", "Realised correlation, 63 sessions", "Real corr", "",
        "realised_correlation", "daily bars",
        "Of a fund: the correlation between its members over 63 sessions that makes their volatilities add up to the fund's.",
        {"stock": "only a fund has members", "": "64 complete sessions of the members are needed"}, decimals=2,
    ),
    _against(
        "correlation_premium", "Implied less realised correlation", "Corr prem", "", "implied_correlation - realised_correlation",
        "Above zero, a fund's options ask for more common movement than its members have shown.", decimals=2,
    ),
    read(
        "implied against historical", "members_iv30", "Members' implied volatility", "Mbrs IV", "%", "members_iv30", _CHAIN,
        "Of a fund: the weighted mean of its members' 30-day implied volatility.",
        {"stock": "only a fund has members", "": "too many members have no implied volatility"}, factor=PERCENT, scale="log",
    ),
    _against(
        "past_premium", "Premium of a month ago, in hindsight", "Past prem", "points", "lag(iv30, 21) - hv21",
        "What options priced 21 sessions ago less what the stock then did: above zero, sellers were paid.",
    ),
    _against(
        "premium_won_share", "How often premium was won", "Prem won", "%", "100 * share_of_sessions(lag(iv30, 21) > hv21, 252)",
        "The share of the last 252 sessions in which the volatility priced a month before was higher than what came. "
        "The months overlap: there are about twelve independent ones.", decimals=0,
    ),
    _move(
        "one_day_move_pct", "One-day expected move", "1-day move", "%", "lag(iv_nearest, 1) / sqrt(252)",
        "One standard deviation of this session's move as the nearest expiration priced it at the close before, so that a report's "
        "own session is measured by what was priced before it.", decimals=2, scale="log",
    ),
    _move(
        "one_day_move", "One-day expected move in dollars", "1-day $", "$", "lag(close, 1) * one_day_move_pct / 100",
        "One standard deviation of this session's move as priced at the close before, in dollars.",
    ),
    _move(
        "next_day_move_pct", "Expected move of the next session", "Next day", "%", "iv_nearest / sqrt(252)",
        "One standard deviation of the next session's move, as the nearest expiration prices it now.", decimals=2, scale="log",
    ),
    _move(
        "next_day_move", "Expected move of the next session in dollars", "Next $", "$", "close * next_day_move_pct / 100",
        "One standard deviation of the next session's move as priced now, in dollars.",
    ),
    _move(
        "spent", "Spent", "Spent", "%", "100 * abs(close - lag(close, 1)) / one_day_move",
        "The share of the move priced for this session that the price has already travelled, up or down.", decimals=0,
    ),
    _move(
        "week_move_pct", "Expected move, 7 days", "7-day move", "%", "iv7 * sqrt(7 / 365)",
        "One standard deviation of the move to seven days from now.", scale="log",
    ),
    _move(
        "month_move_pct", "Expected move, 30 days", "30-day move", "%", "iv30 * sqrt(30 / 365)",
        "One standard deviation of the move to thirty days from now.", scale="log",
    ),
    _move(
        "quarter_move_pct", "Expected move, 90 days", "90-day move", "%", "iv90 * sqrt(90 / 365)",
        "One standard deviation of the move to ninety days from now.", scale="log",
    ),
    _move(
        "month_move", "Expected move in dollars, 30 days", "30-day $", "$", "close * month_move_pct / 100",
        "One standard deviation of the move to thirty days from now, in dollars.",
    ),
    _move(
        "month_in_moves", "Last 21 sessions in expected moves", "Mo moved", "σ", "pct_change(close, 21) / lag(month_move_pct, 21)",
        "How far the price went in 21 sessions, in units of the move that options priced at their start.",
    ),
    _move(
        "beyond_share_63", "Sessions beyond their expected move", "Beyond", "%",
        "100 * share_of_sessions(abs(pct_change(close, 1)) > one_day_move_pct, 63)",
        "The share of 63 sessions that moved more than one standard deviation as priced the evening before. A fair price is "
        "beaten about 32 % of the time.", decimals=0,
    ),
    _move(
        "move_over_range", "Expected move over the usual range", "Move/ATR", "×", "next_day_move / atr(14)",
        "The move priced for the next session against the average true range of 14 sessions.",
    ),
    read("option activity and liquidity", "call_volume", "Call volume", "Calls", "contracts", "call_volume", _ACTIVITY,
         "Call contracts traded in the session, all expirations and strikes.", "no option activity is recorded"),
    read("option activity and liquidity", "put_volume", "Put volume", "Puts", "contracts", "put_volume", _ACTIVITY,
         "Put contracts traded in the session, all expirations and strikes.", "no option activity is recorded"),
    _activity("option_volume", "Option volume", "Opt today", "contracts", "call_volume + put_volume",
              "Option contracts traded in the session so far, calls and puts."),
    _activity(
        "avg_option_volume_21", "Average option volume, 21 sessions", "Opt vol", "contracts", "mean(call_volume + put_volume, 21)",
        "Option contracts traded a session, all expirations and strikes, averaged over the last 21 sessions.",
    ),
    _activity(
        "relative_option_volume", "Relative option volume", "Rel opt", "×", "option_volume / lag(mean(option_volume, 21), 1)",
        "Today's contracts so far against the average of the 21 sessions before.",
    ),
    _activity(
        "option_volume_percentile", "Percentile of option volume", "Opt pctl", "0–100", "rank_pct(call_volume + put_volume, 252)",
        "How unusual today's contracts are for this name.",
    ),
    _activity(
        "put_call_volume", "Put over call volume", "P/C vol", "×", "put_volume / call_volume",
        "Puts traded for each call traded in the session.",
    ),
    _activity(
        "put_call_volume_percentile", "Percentile of put over call volume", "P/C pctl", "0–100",
        "rank_pct(put_volume / call_volume, 252)", "How unusual today's put over call volume is for this name.",
    ),
    _activity(
        "option_to_stock", "Option volume against the stock's", "Opt/stock", "%", "100 * 100 * option_volume / volume",
        "Shares that the session's option contracts stand for, at a hundred each, as a share of the shares traded.",
    ),
    read(
        "option activity and liquidity", "atm_width", "Bid–ask width at the money", "Width", "%", "atm_width", _CHAIN,
        "How wide options are quoted at the money, in percent of their mid: the middle of the expirations one week to two "
        "months ahead. Paid in full by who buys at the ask and sells at the bid.", _NO_QUOTES, scale="log",
    ),
    _activity(
        "avg_atm_width_21", "Typical width at the money, 21 sessions", "Typ width", "%", "mean(atm_width, 21)",
        "The quoted width at the money, averaged over 21 sessions.", scale="log",
    ),
    _activity(
        "width_in_vol", "Width at the money in volatility", "Width vol", "points", "atm_width * iv30 / 100",
        "What the quoted width costs in points of volatility: an option at the money costs nearly in proportion to it.",
    ),
    read("option activity and liquidity", "listed_expirations", "Listed expirations", "Expir", "", "expirations", _CHAIN,
         "How many expirations are listed.", "no options are recorded"),
    read("option activity and liquidity", "weekly_expirations", "Weekly expirations", "Weeklies", "", "weekly_expirations", _CHAIN,
         "How many of the listed expirations are not third Fridays.", "no options are recorded"),
    read("option activity and liquidity", "listed_strikes", "Listed strikes", "Strikes", "", "strikes", _CHAIN,
         "How many strikes are listed, over all expirations.", "no options are recorded"),
    _activity("strikes_each", "Strikes an expiration", "Strikes/exp", "", "listed_strikes / listed_expirations",
              "How many strikes an expiration has on average."),
    _activity("has_weeklies", "Has weekly expirations", "Weekly?", "", "weekly_expirations > 0",
              "Whether any expiration besides third Fridays is listed.", kind="condition"),
    _activity("has_quotes", "Options are quoted", "Quoted?", "", "is_known(iv_nearest)",
              "Whether any expiration could be read in the session; a halted name has none.", kind="condition"),
    read("open interest", "call_open_interest", "Call open interest", "Call OI", "contracts", "call_open_interest", _ACTIVITY,
         "Call contracts open in the morning of the session.", "no option activity is recorded"),
    read("open interest", "put_open_interest", "Put open interest", "Put OI", "contracts", "put_open_interest", _ACTIVITY,
         "Put contracts open in the morning of the session.", "no option activity is recorded"),
    _interest("open_interest", "Open interest", "OI", "contracts", "call_open_interest + put_open_interest",
              "Contracts open in the morning of the session, all expirations and strikes."),
    _interest("open_interest_change", "Change of open interest, 1 session", "OI chg", "contracts", "change(open_interest, 1)",
              "Contracts opened less closed in the previous session.", scale="linear"),
    _interest("open_interest_change_5_pct", "Change of open interest, 5 sessions", "OI chg 5", "%",
              "pct_change(open_interest, 5)", "The change of all open contracts over five sessions."),
    _interest("open_interest_rank", "Open interest in its year's range", "OI rank", "0–100", "range_pct(open_interest, 252)",
              "Where open interest stands between its lowest and highest of 252 sessions."),
    _interest("put_call_open_interest", "Put over call open interest", "P/C OI", "×", "put_open_interest / call_open_interest",
              "Open puts for each open call."),
    _interest("volume_over_open_interest", "Option volume over open interest", "Vol/OI", "%", "100 * option_volume / open_interest",
              "Contracts traded in the session as a share of those open in its morning."),
    _interest("open_interest_share", "Open interest against shares outstanding", "OI/shares", "%",
              "100 * 100 * open_interest / shares_outstanding",
              "Shares that open contracts stand for, at a hundred each, as a share of all shares.", decimals=2),
)  # fmt: skip
