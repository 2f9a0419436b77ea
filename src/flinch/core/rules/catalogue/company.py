"""Valuation, dividends, earnings, short interest and plain facts."""

from __future__ import annotations

from functools import partial

from flinch.core.rules.catalogue.metric import Metric, computed, read

_REPORTS, _SECOND = "reports as first published", "a second source of the same reports"
_ESTIMATES, _DIVIDENDS, _EARNINGS = "analysts' consensus", "declared dividends", "the earnings calendar"
_SHORT = "short interest, published twice a month"
_NEWS = "headlines as they were told"
_ONLY_COMPANIES = {
    "fund": "only companies report",
    "index": "only companies report",
    "": "nothing had been reported by then",
}
_NO_ESTIMATE = {
    "fund": "only companies are estimated",
    "index": "only companies are estimated",
    "": "no estimate by then",
}
_NO_REPORTS = {"fund": "does not report earnings", "index": "does not report earnings"}
_NO_SHORT = {
    "fund": "published for companies only",
    "index": "published for companies only",
    "": "nothing published by then",
}

_value = partial(computed, "valuation and fundamentals")
_dividend = partial(computed, "dividends")
_earnings = partial(computed, "earnings")
_short = partial(computed, "short interest")
_news = partial(computed, "news")


def _reported(key: str, label: str, short: str, definition: str, field: str, *, second: bool = False) -> Metric:
    return read(
        "valuation and fundamentals", key, label, short, "$", field, _SECOND if second else _REPORTS, definition, _ONLY_COMPANIES,
        scale="linear",
    )  # fmt: skip


ENTRIES = (
    read(
        "valuation and fundamentals", "shares_outstanding", "Shares outstanding", "Shares", "shares", "shares_outstanding",
        "company facts", "All shares of the company.", "only companies have it",
    ),
    read(
        "valuation and fundamentals", "float_shares", "Shares that trade", "Float", "shares", "float_shares",
        "company facts", "Shares that are not held by insiders and so can be traded.", "only companies have it",
    ),
    _reported("eps_ttm", "Earnings per share, 12 months", "EPS", "Earnings per share of the last four reported quarters, "
              "usable from the session they became known.", "eps_ttm"),
    _reported("eps_ttm_second", "Earnings per share, second source", "EPS (2)",
              "The same figure as another source has it.", "eps_ttm_second", second=True),
    _reported("book_per_share", "Book value per share", "Book", "Shareholders' equity per share at the last reported quarter's end.",
              "book"),
    _reported("book_per_share_second", "Book value per share, second source", "Book (2)",
              "The same figure as another source has it.", "book_second", second=True),
    _reported("sales_per_share", "Sales per share, 12 months", "Sales", "Sales per share of the last four reported quarters.",
              "sales_ttm"),
    _reported("fcf_per_share", "Free cash flow per share", "FCF", "Free cash flow per share of the last reported year. "
              "It is reported once a year only.", "fcf_ttm"),
    read("valuation and fundamentals", "debt_to_equity", "Debt to equity", "Debt/eq", "×", "debt_to_equity", _REPORTS,
         "Borrowed money for each dollar of equity.", _ONLY_COMPANIES),
    read("valuation and fundamentals", "fundamentals_age", "Age of the figures", "Fig age", "days", "fundamentals_age", _REPORTS,
         "Days since the end of the newest reported quarter. Above about 140 a report is overdue and ratios are stale.",
         _ONLY_COMPANIES),
    read("valuation and fundamentals", "eps_next_year", "Expected earnings per share", "EPS next", "$", "eps_next_year", _ESTIMATES,
         "What analysts expect for the next year, on average.", _NO_ESTIMATE, scale="linear"),
    read("valuation and fundamentals", "fair_value", "Consensus price target", "Target", "$", "fair_value", _ESTIMATES,
         "The price that analysts think fair, on average.", _NO_ESTIMATE),
    read("valuation and fundamentals", "estimates_age", "Age of the estimates", "Est age", "days", "estimates_age", _ESTIMATES,
         "Days since the newest estimate became known. After about a quarter without one nobody has looked again.", _NO_ESTIMATE),
    _value("market_cap", "Market capitalisation", "Mkt cap", "$", "close * shares_outstanding",
           "What all shares outstanding cost at the last price. Funds and indices have none.", decimals=0),
    _value("price_to_earnings", "Price to earnings", "P/E", "×", "close / positive(eps_ttm)",
           "Price over earnings per share of twelve months; missing for a loss.", decimals=1),
    _value("forward_pe", "Price to expected earnings", "Fwd P/E", "×", "close / positive(eps_next_year)",
           "Price over the earnings per share that analysts expect; missing for an expected loss.", decimals=1),
    _value("earnings_yield", "Earnings yield", "E/P", "%", "100 * eps_ttm / close",
           "Earnings per share of twelve months as a share of price; below zero for a loss."),
    _value("price_to_book", "Price to book", "P/B", "×", "close / positive(book_per_share)",
           "Price over book value per share; missing when equity is not above zero."),
    _value("price_to_book_second", "Price to book, second source", "P/B (2)", "×", "close / positive(book_per_share_second)",
           "Price over book value per share as the second source has it."),
    _value("book_disagreement", "Disagreement on book value", "Book gap", "%",
           "100 * abs(book_per_share / book_per_share_second - 1)",
           "How far the two sources' book values are apart. More than a few percent: look before you trust the ratio.", scale="log"),
    _value("price_to_book_percentile", "Percentile of price to book", "P/B pctl", "0–100", "rank_pct(price_to_book, 504)",
           "How unusual today's price to book is for this name over two years."),
    _value("price_to_sales", "Price to sales", "P/S", "×", "close / positive(sales_per_share)",
           "Price over sales per share of twelve months."),
    _value("pe_percentile", "Percentile of price to earnings", "P/E pctl", "0–100", "rank_pct(price_to_earnings, 504)",
           "How unusual today's price to earnings is for this name over two years."),
    _value("fcf_yield", "Free cash flow yield", "FCF yld", "%", "100 * fcf_per_share / close",
           "Free cash flow of the last reported year as a share of price."),
    _value("return_on_equity", "Return on equity", "ROE", "%", "100 * eps_ttm / positive(book_per_share)",
           "Earnings of twelve months as a share of book value."),
    _value("net_margin", "Net margin", "Margin", "%", "100 * eps_ttm / positive(sales_per_share)",
           "Earnings as a share of sales, twelve months."),
    _value("eps_growth", "Growth of earnings, 252 sessions", "EPS grw", "%",
           "100 * (eps_ttm - lag(eps_ttm, 252)) / abs(lag(eps_ttm, 252))",
           "Earnings per share against what was known about a year ago."),
    _value("sales_growth", "Growth of sales, 252 sessions", "Sales grw", "%", "pct_change(sales_per_share, 252)",
           "Sales per share against what was known about a year ago."),
    _value("expected_eps_growth", "Expected growth of earnings", "EPS exp", "%", "100 * (eps_next_year - eps_ttm) / abs(eps_ttm)",
           "What analysts expect for the next year against the last twelve months."),
    _value("peg", "Price to earnings over growth", "PEG", "×", "price_to_earnings / positive(expected_eps_growth)",
           "Price to earnings for each point of expected growth; missing without growth."),
    _value("upside_to_target", "Distance to the price target", "Upside", "%", "100 * (fair_value / close - 1)",
           "How far the consensus price target is above the price."),
    read("dividends", "dividend_ttm", "Dividends, 12 months", "Div", "$", "dividend_ttm", _DIVIDENDS,
         "Cash dividends per share that went ex in the last 365 days; zero for who pays none.",
         {"index": "an index pays none", "": "nothing is known"}, scale="linear"),
    read("dividends", "days_to_ex_dividend", "Days to ex-dividend", "Ex-div", "days", "days_to_ex_dividend", _DIVIDENDS,
         "Calendar days to the next declared ex-date.", "no dividend is declared"),
    read("dividends", "next_dividend", "Next dividend", "Next div", "$", "next_dividend", _DIVIDENDS,
         "The amount per share of the next declared dividend.", "no dividend is declared", scale="linear"),
    _dividend("dividend_yield", "Dividend yield", "Yield", "%", "100 * dividend_ttm / close",
              "Dividends of the last 365 days as a share of price.", decimals=2),
    _dividend("payout_ratio", "Payout ratio", "Payout", "%", "100 * dividend_ttm / positive(eps_ttm)",
              "The share of earnings that is paid out; missing for a loss."),
    _dividend("dividend_growth", "Growth of dividends, 252 sessions", "Div grw", "%", "pct_change(dividend_ttm, 252)",
              "Dividends of twelve months against those of the year before; missing where there were none."),
    _dividend("pays_dividend", "Pays a dividend", "Pays?", "", "dividend_ttm > 0",
              "Whether anything was paid in the last 365 days.", kind="condition"),
    _dividend("next_dividend_pct", "Next dividend against price", "Next div %", "%", "100 * next_dividend / close",
              "The next declared dividend as a share of price: what the price gives up on the ex-date.", decimals=2),
    read("earnings", "days_to_earnings", "Days to earnings", "Earn", "days", "days_to_earnings", _EARNINGS,
         "Calendar days to the next scheduled report. Funds and indices do not report.",
         _NO_REPORTS | {"": "no report is scheduled"}),
    read("earnings", "days_since_earnings", "Days since earnings", "Since earn", "days", "days_since_earnings", _EARNINGS,
         "Calendar days since the last report that the price has reacted to.", _NO_REPORTS | {"": "no report within the history"}),
    read("earnings", "last_earnings_move", "Move on the last earnings", "Last earn", "%", "last_earnings_move", _EARNINGS,
         "Close of the session that reacted to the last report, against the close before it.",
         _NO_REPORTS | {"": "no report within the history"}, decimals=1),
    read("earnings", "average_earnings_move", "Average move on earnings", "Avg earn", "%", "average_earnings_move", _EARNINGS,
         "Average size of the move on the last reports, up to eight of them.",
         _NO_REPORTS | {"": "no report within the history"}, decimals=1, scale="log"),
    _earnings("earnings_in_month", "Earnings within 30 days", "Earn 30?", "", "days_to_earnings <= 30",
              "Whether the next report falls within thirty days: then thirty-day implied volatility holds its jump.",
              kind="condition"),
    _earnings("earnings_surprise", "Last earnings move against the usual", "Earn/avg", "×",
              "abs(last_earnings_move) / average_earnings_move", "The size of the last move on earnings against the average one."),
    read("short interest", "short_shares", "Shares sold short", "Short", "shares", "short_shares", _SHORT,
         "Shares sold short at the newest settlement published by then; eight sessions pass until it is.", _NO_SHORT),
    read("short interest", "short_shares_before", "Shares sold short before", "Short bef", "shares", "short_shares_before", _SHORT,
         "The same at the settlement before.", _NO_SHORT),
    read("short interest", "short_interest_age", "Age of the short interest", "Short age", "days", "short_interest_age", _SHORT,
         "Days since the newest settlement published by then. Above about 35 a publication was missed.", _NO_SHORT),
    _short("short_percent_float", "Short interest", "Short %", "%", "100 * short_shares / float_shares",
           "Shares sold short as a share of those that trade.", scale="log"),
    _short("short_change", "Change of short interest", "Short chg", "%", "100 * (short_shares / short_shares_before - 1)",
           "Against the settlement before."),
    _short("short_change_63", "Change of short interest, 63 sessions", "Short 63", "%", "pct_change(short_shares, 63)",
           "Against what was known about a quarter ago."),
    _short("days_to_cover", "Days to cover", "Cover", "days", "short_shares / mean(volume, 21)",
           "Sessions of average volume it would take to buy all shorted shares back.", decimals=1, scale="log"),
    read("news", "headlines", "Headlines of the session", "Headl", "", "headlines", _NEWS,
         "Headlines about the name since the close before; what comes after a close belongs to the next session.",
         "nothing had been told of any name by then"),
    _news("news_count", "Headlines, 5 sessions", "News", "", "sum(headlines, 5)",
          "Headlines about the name in the last five sessions, this one included. More than usual: somebody knows why it moves."),
    _news("news_age", "Sessions since a headline", "News age", "sessions", "sessions_since(headlines > 0)",
          "Sessions since the newest headline about the name; nought for one since the close before."),
    read("facts", "symbol", "Symbol", "Symbol", "", "symbol", "the listing", "The name's symbol.", "", kind="text"),
    read("facts", "sector", "Sector", "Sector", "", "sector", "the listing", "The sector of a company.", "", kind="text"),
    read("facts", "kind", "Kind", "Kind", "", "kind", "the listing", "stock, fund or index.", "", kind="text"),
    read("facts", "days_listed", "Days since listing", "Listed", "days", "days_listed", "the listing",
         "Calendar days since the first session of trading.", "not listed yet", scale="log"),
    computed("facts", "listing_age", "Years since listing", "Age", "years", "days_listed / 365.25",
             "Years since the first session of trading."),
)  # fmt: skip
