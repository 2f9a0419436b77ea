"""The surfaces of the demo market's newest chains: slices that break a bound, and how far fitted prices lie from quotes."""

from __future__ import annotations

import numpy as np

from flinch.core.pricing import exercised_early, option_price
from flinch.core.volatility import smile_vol
from flinch.core.volatility.chain import ChainQuotes, summarise_expiries
from flinch.feeds.simulated import simulate
from measure import sized, table

REACHES = ((-np.inf, -3), (-3, -2), (-2, -1), (-1, -0.5), (-0.5, 0.5), (0.5, 1), (1, 2), (2, 3), (3, np.inf))


def main() -> None:
    market = simulate(names=sized(0, 20) or None, planted=not sized(0, 1))
    chain, expiries, spots = market.chain, market.expiries, market.snapshots[-1].spot
    bid, ask = chain.bid.reshape(-1, 2), chain.ask.reshape(-1, 2)
    quotes = ChainQuotes(chain.expiry[::2], chain.strike[::2], bid[:, 0], ask[:, 0], bid[:, 1], ask[:, 1])
    spot = spots[expiries.name]
    kind = np.array([name.kind for name in market.names])
    found = summarise_expiries(
        quotes,
        name=expiries.name,
        spot=spot,
        years=expiries.years,
        rate=market.rate,
        american=exercised_early(kind)[expiries.name],
    )
    a, b, rho, m, sigma = (found.fit.parameters[:, i][:, None] for i in range(5))
    deviation = found.vol * np.sqrt(expiries.years)
    k = np.linspace(-6, 6, 241) * deviation[:, None]
    root = np.sqrt((k - m) ** 2 + sigma**2)
    w, first, second = a + b * (rho * (k - m) + root), b * (rho + (k - m) / root), b * sigma**2 / root**3
    density = (1 - k * first / (2 * w)) ** 2 - first**2 / 4 * (1 / w + 0.25) + second / 2
    steep = (b * (1 + np.abs(rho)))[:, 0] > 2 + 1e-9
    group = quotes.group
    moneyness = np.log(quotes.strike / found.forward[group])
    vol = smile_vol(found.fit.parameters[group], expiries.years[group], moneyness)
    is_call = quotes.strike >= found.forward[group]
    low, high = (
        np.where(is_call, c, p) for c, p in ((quotes.call_bid, quotes.put_bid), (quotes.call_ask, quotes.put_ask))
    )
    price = option_price(
        spot[group], quotes.strike, expiries.years[group], vol, is_call=is_call, rate=market.rate,
        dividend_yield=found.carry[group], exercise="american",
    )  # fmt: skip
    quoted = (low > 0) & (high >= low) & np.isfinite(price)
    off = np.abs(price - 0.5 * (low + high)) / np.maximum(0.5 * (high - low), 0.005)
    z = moneyness / deviation[group]
    rows = [
        ("slices fitted", str(int(np.isfinite(found.vol).sum())), "", ""),
        ("wings steeper than Lee's bound", str(int(steep.sum())), "", "0"),
        ("a butterfly within six deviations", str(int((density.min(axis=1) < -1e-9).sum())), "", "0"),
        (
            "quoted and above 3 × at the money and 200 %",
            str(int((quoted & (vol > 3 * found.vol[group]) & (vol > 2)).sum())),
            "",
            "0",
        ),
    ]
    for least, most in REACHES:
        part = off[quoted & (z >= least) & (z < most)]
        rows.append(
            (
                f"{least:g} to {most:g} deviations, {part.size:,} quotes",
                f"{np.median(part):.2f}",
                f"{np.percentile(part, 95):.2f}",
                "",
            )
        )
    table("Fitted less quoted mid in half widths of the quote, median and 95th percentile", rows)


if __name__ == "__main__":
    main()
