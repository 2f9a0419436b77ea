"""Screens that ship with Flinch: each says in three sentences what it looks for, why, and what to beware of."""

from __future__ import annotations

from pydantic import BaseModel

from flinch.screening.body import RuleBody, ScreenBody


class Starter(BaseModel):
    """One of them."""

    key: str
    name: str
    description: str
    tags: list[str]
    body: ScreenBody


def _starter(
    key: str, name: str, tags: str, description: str, rules: list[str], columns: str, sort: str, universe: str = "stock"
) -> Starter:
    body = ScreenBody(
        universe=universe, rules=[RuleBody(text=rule) for rule in rules], columns=columns.split(), sort=sort.split()
    )
    return Starter(key=key, name=name, description=description, tags=tags.split(), body=body)


STARTERS = [
    _starter(
        "premium-to-sell", "Premium to sell", "sell volatility",
        "Liquid names whose options price far more movement than the stock has shown, high in their own year. Sellers are paid for "
        "that gap when the stock goes on as it did. Names with earnings ahead are left out, for their gap has a reason.",
        ["15 <= price <= 400", "avg_option_volume_21 >= 500", "atm_width <= 12", "iv_hv_ratio >= 1.15", "iv_rank >= 30",
         "days_to_earnings > 21"],
        "price change_pct move level iv30 hv21 iv_hv_ratio iv_rank iv_percentile premium_won_share atm_width days_to_earnings",
        "-iv_hv_ratio -iv_rank",
    ),
    _starter(
        "premium-to-buy", "Premium to buy", "buy volatility",
        "Names whose options cost less than the movement the stock has been making, low in their own year. Buyers of straddles and "
        "calendars look here, for the price of being wrong is small. What has just calmed down looks cheap as well: mind the trend "
        "of historical volatility.",
        ["15 <= price <= 400", "avg_option_volume_21 >= 300", "atm_width <= 15", "iv_hv_ratio <= 0.95", "iv_percentile <= 35"],
        "price change_pct move level iv30 hv21 iv_hv_ratio iv_hv_ratio_percentile iv_percentile hv_trend month_move_pct days_to_earnings",
        "iv_hv_ratio iv_percentile",
    ),
    _starter(
        "dear-funds", "Funds priced far above what they do", "sell funds volatility",
        "Funds whose implied volatility is well above what they have done over a month and over a quarter. A fund has no earnings day "
        "to explain it, so the gap is the price of insurance. It tends to be widest just before it is needed.",
        ["iv_hv_ratio >= 1.15", "iv_hv63_ratio >= 1.1", "iv_hv_ratio_percentile >= 50"],
        "price change_pct move level iv30 hv21 hv63 iv_hv_ratio iv_hv63_ratio iv_hv_ratio_percentile iv_rank",
        "-iv_hv_ratio_percentile -iv_hv_ratio", "fund",
    ),
    _starter(
        "squeeze-strength", "Quiet strength in a squeeze", "direction trend",
        "Names that trade above their 50-session average and beat the market over a month while their closes hardly move. Compression "
        "ends in movement, and the side of strength is the likelier one. Options are cheap as long as it lasts.",
        ["avg_dollar_volume_21 >= 2000000", "close > sma(close, 50)", "squeeze_on", "rel_strength_21 > 0"],
        "price change_pct move level rel_strength_21 squeeze_length squeeze_momentum bollinger_width_percentile above_sma_50 iv_percentile days_to_earnings",
        "-rel_strength_21 -squeeze_length",
    ),
    _starter(
        "regained-200", "Fallen names back above their 200-session average", "direction reversal",
        "Names far below their year's high that have just closed above the 200-session average again. The first cross after a long stay "
        "below is where a fall may have ended. Many such crosses fail: look for volume, and for room to the next swing high.",
        ["price >= 5", "below_high_252_pct <= -15", "sessions_since(crossed_above(close, sma(close, 200))) <= 5",
         "close > sma(close, 200)", "share_of_sessions(close < sma(close, 200), 63) >= 0.6"],
        "price change_pct move level sessions_above_200 above_sma_200 below_high_252_pct relative_volume swing_high_5 iv_rank days_to_earnings",
        "sessions_above_200 -relative_volume",
    ),
    _starter(
        "premarket-movers", "Pre-market movers on volume", "today gap",
        "Names that moved two percent or more before the open on at least a twentieth of a usual day's shares. Volume tells news from a "
        "single stray trade. The column Spent says how much of the day's expected move is gone already.",
        ["price >= 5", "abs(premarket_change) >= 2", "premarket_volume > 0.05 * mean(volume, 50)"],
        "price premarket_change premarket_volume_share change_pct move spent since_premarket_pct above_premarket_high relative_volume iv_change_1 days_since_earnings",
        "-premarket_volume_share",
    ),
    _starter(
        "channel-bounce", "A bounce off the lower channel", "direction reversal",
        "Names whose low today went through the lower line of their half-year regression channel and whose price is back above it. "
        "The line was tested and held for the day. In a falling channel the bounce goes against the trend: see its slope.",
        ["price >= 5", "low < channel(close, 126, -1) and close > channel(close, 126, -1)", "close_in_range >= 50"],
        "price change_pct move level channel_position_126 trend_slope_63 close_in_range rsi_14 relative_volume iv_rank days_to_earnings",
        "-close_in_range",
    ),
    _starter(
        "cheap-own-past", "Cheap against its own past", "value",
        "Names that trade below nine tenths of book and in two years hardly ever did. What is always that cheap is left out: only a "
        "break with the own past counts. The age of the figures and the second source tell whether the ratio can be trusted.",
        ["price_to_book < 0.9", "share_of_sessions(price_to_book > 0.9, 504) > 0.85", "fundamentals_age <= 140",
         "book_disagreement <= 5"],
        "price change_pct change_63_pct price_to_book price_to_book_second price_to_book_percentile fundamentals_age return_on_equity debt_to_equity iv_percentile days_to_earnings",
        "price_to_book",
    ),
    _starter(
        "fair-income-uptrend", "Fair value, income and an uptrend", "value income",
        "Profitable names at a reasonable price that pay more than two and a half percent and trend upward. They suit covered calls and "
        "short puts, where being assigned is no accident. Names that report within twelve days or have run hot are left out.",
        ["5 <= price_to_earnings <= 22", "dividend_yield > 2.5", "payout_ratio <= 80", "uptrend", "rsi(14) < 65", "days_to_earnings > 12"],
        "price change_pct move level price_to_earnings dividend_yield payout_ratio upside_to_target above_sma_200 rsi_14 iv_rank days_to_ex_dividend days_to_earnings",
        "-dividend_yield",
    ),
    _starter(
        "short-squeeze", "Heavy short interest in a rising name", "direction shorts",
        "Names of which more than a tenth of the float is sold short and growing, and whose price goes up against it. Those who are short "
        "must buy when it hurts, and days to cover say for how long. Published figures are eight sessions old at best.",
        ["short_percent_float >= 10", "short_change > 0", "days_to_cover >= 3", "rel_strength_21 > 0", "close > sma(close, 20)"],
        "price change_pct move level short_percent_float short_change days_to_cover rel_strength_21 squeeze_on relative_volume iv_rank days_to_earnings",
        "-short_percent_float",
    ),
    _starter(
        "fresh-breakout", "Fresh breakouts on volume", "direction trend",
        "Names that closed above the highest price of the quarter before, today or yesterday, on more shares than usual. Volume is what "
        "tells a breakout from a drift. How much of the expected move is spent tells whether you are late.",
        ["price >= 5", "any_in(close > lag(max(high, 63), 1), 2)", "relative_volume >= 1.3", "close_in_range >= 50"],
        "price change_pct move spent relative_volume above_sma_50 range_position_252 rel_strength_21 iv_change_1 iv_rank days_to_earnings",
        "-relative_volume",
    ),
    _starter(
        "before-earnings", "Options before earnings", "earnings volatility",
        "Names that report within three weeks, with the price of that report in their options. Compare the move priced to thirty days with "
        "what the last reports did. Thin names are left out, for the spread would eat the difference.",
        ["0 <= days_to_earnings <= 21", "avg_option_volume_21 >= 200", "atm_width <= 15"],
        "price change_pct move level days_to_earnings average_earnings_move last_earnings_move front_over_month month_move_pct iv_rank iv_percentile atm_width",
        "days_to_earnings -front_over_month",
    ),
    _starter(
        "after-the-report", "Still dear after the report", "earnings sell",
        "Names that reported within ten days and whose options have not come down to what the stock does. The reason for the premium is "
        "over, the premium is not. A stock that moved far beyond its priced move may have changed its nature: read before selling.",
        ["days_since_earnings <= 10", "iv_over_forecast >= 1.1", "iv_percentile >= 40", "avg_option_volume_21 >= 100"],
        "price change_pct move level days_since_earnings last_earnings_move average_earnings_move iv30 forecast_vol iv_over_forecast iv_percentile fit_quality atm_width",
        "-iv_over_forecast",
    ),
    _starter(
        "unusual-volume", "Option volume unusual for the name", "flow today",
        "Names whose option contracts today are more than on nineteen days of twenty in their own year. Against its own past a quiet name "
        "shows as well as a loud one. Puts over calls say which side, and implied volatility whether somebody paid up.",
        ["option_volume_percentile >= 95", "option_volume >= 200", "relative_option_volume >= 1.5"],
        "price change_pct move spent option_volume relative_option_volume option_volume_percentile put_call_volume put_call_volume_percentile iv_change_1 volume_over_open_interest days_to_earnings",
        "-relative_option_volume",
    ),
    _starter(
        "quiet-day-unspent", "Priced to move, and has not yet", "today",
        "Liquid names that have used less than a quarter of the move their options price for today. For trades on the day's remaining range, "
        "or for selling what is left of it. Late in the session little time remains for the rest.",
        ["avg_option_volume_21 >= 500", "spent <= 25", "one_day_move_pct >= 2", "day_range_pct <= 3"],
        "price change_pct move spent one_day_move_pct day_range_pct move_over_range beyond_share_63 iv_rank days_to_earnings",
        "spent",
    ),
    _starter(
        "out-of-the-week", "Out of the week, inside the month", "direction expected-move",
        "Liquid names that have left the move their options priced for this week and not yet the one priced for this month, on the same "
        "side. The month's edge is a target that the market itself has set. Whether it is reached more often than by others is a "
        "question for the evidence, not for belief.",
        ["avg_option_volume_21 >= 500", "one_day_move_pct < 4", "abs(week_position) > 1", "abs(month_position) < 1",
         "week_position * month_position > 0"],
        "price change_pct move week_position month_position room_to_month_pct room_to_month_days month_sessions_left one_day_move_pct spent days_to_earnings",
        "room_to_month_days",
    ),
    _starter(
        "dear-against-forecast", "Dear against the forecast, and well quoted", "sell volatility",
        "Names whose options price clearly more movement than is forecast, unusually much for themselves, and whose quotes fit a clean "
        "surface. The forecast knows the stock's own habit, the fit says the numbers can be leaned on. Reports ahead are left out.",
        ["avg_option_volume_21 >= 500", "fit_quality >= 80", "iv_over_forecast >= 1.15", "iv_minus_forecast_percentile >= 75",
         "days_to_earnings > 30"],
        "price change_pct move level iv30 forecast_vol iv_over_forecast iv_minus_forecast_percentile cone_percentile skew_25d fit_quality atm_width",
        "-iv_over_forecast",
    ),
    _starter(
        "cheap-before-earnings", "Cheap before the report", "buy earnings",
        "Names that report within a month and whose options price a smaller move than the last ones were on average. The move that is "
        "priced is taken out of the term structure, apart from the days around it. Few past reports make a poor average: look at "
        "the ledger in the Dossier.",
        ["2 <= days_to_earnings <= 30", "avg_option_volume_21 >= 300", "fit_quality >= 60", "earnings_move_ratio <= 1"],
        "price change_pct move level days_to_earnings implied_earnings_move average_earnings_move earnings_move_ratio iv30 iv30_ex_earnings fit_quality atm_width",
        "earnings_move_ratio",
    ),
    _starter(
        "positive-and-rising", "Positive exposure, and rising", "positioning trend",
        "Names in an uptrend with more gamma in calls than in puts, and more of it than yesterday and a week ago. If dealers hold the "
        "other side of customers who sell calls and buy puts, their hedging damps moves, the more the higher this goes. Exposure says "
        "nothing of direction, and the side is assumed: see what the page on exposure says it cannot tell.",
        ["price >= 10", "open_interest >= 5000", "close > sma(close, 50)", "call_put_exposure >= 1.2", "net_exposure_change_1 > 0",
         "net_exposure_change_5 > 0"],
        "price change_pct move net_exposure net_exposure_pct net_exposure_change net_exposure_change_1 net_exposure_change_share call_put_exposure flip_distance peak_exposure_distance open_interest",
        "-net_exposure_change_share", "all",
    ),
    _starter(
        "just-under-the-flip", "Just under the flip", "positioning",
        "Names whose net exposure is below zero and would change sign a little above the price. Under the flip hedging feeds moves, above "
        "it hedging damps them: a rise through it would quieten the name. Where exposure is small against what trades a day, "
        "the flip is a number and no more.",
        ["price >= 5", "open_interest >= 2000", "gross_exposure_pct >= 1", "net_exposure < 0", "0 < flip_distance <= 4"],
        "price change_pct move flip flip_distance flip_distance_moves net_exposure net_exposure_pct gross_exposure_pct call_put_exposure week_exposure_share open_interest",
        "flip_distance", "all",
    ),
    _starter(
        "roll-off-this-week", "Heavy roll-off this week", "positioning",
        "Names of whose exposure a large part ends with this week's expiration. What held the price near a strike, or pushed it about, is "
        "gone on Monday. Near the expiration gamma crowds into the strikes at the price, so the share rises by itself as the week goes.",
        ["open_interest >= 5000", "gross_exposure_pct >= 1", "week_exposure_share >= 12"],
        "price change_pct move week_exposure_share roll_off_share net_exposure net_exposure_pct gross_exposure_pct peak_exposure_strike peak_exposure_distance flip_distance open_interest",
        "-week_exposure_share", "all",
    ),
    _starter(
        "building-above", "Interest building above the market", "positioning direction",
        "Names where contracts are being opened at strikes above the price, yesterday and through the week, more than below it. Somebody "
        "may be waiting there, or selling what they hold: open interest does not say who. Contracts come first, and a percentage on a "
        "small base says nothing.",
        ["price >= 5", "opened_above >= 200", "opened_above_share >= 2", "opened_above > 1.5 * opened_below", "mean(opened_above, 5) >= 100"],
        "price change_pct move opened opened_above opened_above_share interest_above_share largest_build largest_build_base largest_build_pct peak_interest_distance open_interest",
        "-opened_above_share", "all",
    ),
    _starter(
        "calls-lifted", "Calls lifted in middle-sized names", "flow direction",
        "Companies of middle size in which half as much again as usual went into calls today, most of it on the ask side. Somebody pays up "
        "where few look. A lean is a fact about trades, not about their owners: what they hedge is not known.",
        ["1.5e9 <= market_cap <= 8e9", "call_premium >= 50000", "call_premium_ratio >= 1.5", "call_ask_premium > 1.2 * call_bid_premium"],
        "price change_pct move spent call_premium call_premium_ratio net_lean flow_ask_share outside_call_share largest_call_premium call_novelty iv_change_1 days_to_earnings",
        "-call_premium_ratio", "stock",
    ),
    _starter(
        "money-that-opens", "Money that must be opening", "flow direction",
        "Smaller companies in which three times the usual premium bought options that were not open before, nearly all of one right. "
        "What opens is a new bet or a new hedge; what closes is neither. Look at the evidence in the direction of its lean, from the "
        "next open, for the close cannot be traded once the day is known.",
        ["market_cap <= 8e9", "opening_premium >= 20000", "opening_ratio >= 3", "opening_share >= 15", "abs(opening_lean) >= 60"],
        "price change_pct move spent opening_premium opening_ratio opening_share opening_lean net_lean largest_premium novelty option_volume days_to_earnings",
        "-opening_ratio", "stock",
    ),
    _starter(
        "first-of-its-size", "First of its size in two months", "flow",
        "Names in which a ticket traded today that is larger than any of the last two months in calls or in puts. Size alone says little "
        "of direction. The lean says where it points, and the packages' share whether much of the day was legs of something else.",
        ["novelty >= 42", "largest_premium >= 10000", "largest_ratio >= 2"],
        "price change_pct move spent largest_premium largest_ratio call_novelty put_novelty net_lean flow_ask_share package_share iv_change_1 days_to_earnings",
        "-largest_ratio", "stock",
    ),
    _starter(
        "same-strike-again", "The same strike again and again", "flow",
        "Names in which one contract was bought at the ask several times today, more often than is usual for them. It may be one order "
        "cut into pieces, or several people with one idea. The Dossier's tape shows which contract it is, and whether it opens.",
        ["repeats >= 5", "repeats >= 2 * mean(repeats, 60)", "flow_ask_share >= 50"],
        "price change_pct move spent repeats flow_ask_share call_ask_premium put_ask_premium net_lean net_shares_pct opening_share iv_change_1 days_to_earnings",
        "-repeats", "stock",
    ),
    _starter(
        "above-every-print", "Above every large print", "prints direction",
        "Names whose price stands above every level of five million in twenty sessions: whoever bought there is in the money. Nobody says "
        "whether a print was bought or sold, and a level below is no floor by itself. The page Off-exchange draws them; the Dossier tells "
        "whether this name's shelves held.",
        ["print_position_5m >= 1", "avg_dollar_volume_21 >= 5e6", "shelf_below_moves >= -2.5"],
        "price change_pct move spent print_position_5m print_position_1m shelf_below_moves shelf_below_days print_share largest_burst_days rel_strength_21 days_to_earnings",
        "shelf_below_days", "stock",
    ),
    _starter(
        "below-every-print", "Below every large print", "prints direction",
        "Names whose price stands below every level of five million in twenty sessions: whoever bought there is under water. They may "
        "sell into a rise, or have sold and are done. Look for the nearest shelf above as a target and at the report that may have moved it.",
        ["print_position_5m <= -1", "avg_dollar_volume_21 >= 5e6", "shelf_above_moves <= 2.5"],
        "price change_pct move spent print_position_5m print_position_1m shelf_above_moves shelf_above_days print_share short_percent_float rel_strength_21 days_to_earnings",
        "shelf_above_days", "stock",
    ),
    _starter(
        "at-a-shelf", "At a heavy shelf", "prints levels",
        "Names within half an expected move of a shelf where a fifth of a day's value or more changed hands. What happens there is worth "
        "watching. Two thirds of such prices hold, and so do prices where nothing was printed: ask the record before betting on it.",
        ["avg_dollar_volume_21 >= 5e6", "-0.5 <= shelf_below_moves <= 0", "shelf_below_days >= 0.2"],
        "price change_pct move spent shelf_below shelf_below_moves shelf_below_days shelf_above_moves shelf_above_days shelf_held_share one_day_move_pct days_to_earnings",
        "-shelf_below_days", "stock",
    ),
    _starter(
        "much-printed", "Much printed today", "prints activity",
        "Names of which twice as much as usual was printed away from the exchanges today, one burst alone a good part of a day's value. "
        "Somebody moved a position. A report, an index change or a placement explains many of them, so look there first.",
        ["print_ratio >= 2", "largest_burst >= 1e6", "print_share >= 5"],
        "price change_pct move spent print_notional print_ratio print_share largest_burst largest_burst_days print_position_1m relative_volume days_to_earnings",
        "-print_ratio", "stock",
    ),
]  # fmt: skip


def _tape(
    key: str, name: str, tags: str, description: str, rules: list[str], *, sessions: int = 1, sort: str = "-premium"
) -> Starter:
    body = ScreenBody(
        universe="stock",
        rules=[RuleBody(text=rule) for rule in rules],
        sort=[sort],
        view="names",
        table="tickets",
        sessions=sessions,
    )
    return Starter(key=key, name=name, description=description, tags=tags.split(), body=body)


TAPE_STARTERS = [
    _tape(
        "tape-calls-lifted", "Calls lifted for the next quarter", "direction",
        "Calls on the ask side in companies of middle size, out of the money and with a month to four left: what somebody buys who "
        "expects a move and has time for it. Legs of packages are no views and left out. Since says whether the move has gone "
        "already.",
        ["1.5e9 <= market_cap <= 8e9", "is_call", 'side in ("ask",)', "30 <= dte <= 120", "out_of_the_money_pct >= 1", "premium >= 5000",
         "not in_package", "since <= 0.5"],
    ),
    _tape(
        "tape-same-strike", "The same strike again and again", "repeated",
        "Contracts that are bought at the ask many times in a session, as one order cut into pieces would be. By contract shows each once "
        "with its open interest. Many pieces are not many opinions.",
        ['side in ("ask",)', "not in_package", "premium >= 5000", "repeated >= 6", "ask_share >= 60"], sort="-repeated",
    ),
    _tape(
        "tape-must-open", "Money that must be opening", "direction opening",
        "Options bought at the ask of which more traded than was open in the morning, so that they cannot all have closed something. "
        "A new position is a bet or a hedge, and which of them nobody knows. Next morning's open interest confirms it or does not.",
        ['side in ("ask",)', "not in_package", "premium >= 20000", 'opening in ("certain", "confirmed", "likely")', "volume_over_interest >= 1.5"],
    ),
    _tape(
        "tape-first-in-months", "First of its size in two months", "unusual",
        "Tickets larger than any that the name has had for two months in that right. A quiet name shows as well as a loud one. Size says "
        "little of direction: the side does, where it is known.",
        ["first_in >= 42", "premium >= 3000", "not in_package"], sort="-first_in",
    ),
    _tape(
        "tape-rolled-and-added", "Rolled and added to", "rolls",
        "Positions that were moved to another contract within seconds, with more money than before: a holder who is wrong or early and does "
        "not give up, or right and wants more. Lower calls with more money say the first. How many rolls chance would "
        "make stands under the list.",
        ["is_roll", "roll_ratio >= 1.2", "premium >= 20000", "abs(roll_strike_pct) >= 1"],
    ),
    _tape(
        "tape-puts-sold", "Puts sold under the market", "income direction",
        "Puts on the bid side with strikes well below the price and two weeks to ten left: somebody is paid for being willing to buy "
        "there. The strikes are prices at which money waits. A put that was bought before and is sold now looks the same.",
        ["not is_call", 'side in ("bid",)', "14 <= dte <= 75", "out_of_the_money_pct >= 4", "premium >= 10000", "not in_package"],
    ),
]  # fmt: skip
"""The same for tickets."""
