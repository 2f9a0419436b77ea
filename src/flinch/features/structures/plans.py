"""Plans: structures kept with a reason and exits, and what they are worth now."""

from __future__ import annotations

from typing import Any

from flinch.core.structures.notation import PlainLegs, leg_words, read_legs, write_legs
from flinch.errors import FlinchError
from flinch.features.structures.legs import board_of, listed_rows, name_board, name_boards, price_legs
from flinch.features.structures.plan_schemas import ExitNow, Exits, PlanDraft, PlanList, PlanView, PlanWhy
from flinch.market import View
from flinch.market.boards import Board
from flinch.store.owned.models import Plan as Row


def plan_list(view: View, rows: list[Row]) -> PlanList:
    """All plans by symbol, each with today's value."""
    boards = name_boards(view, listed_rows(view, [row.symbol for row in rows]))
    return PlanList(session=view.today, plans=[plan_view(view, row, boards) for row in rows])


def values_of(view: View, draft: PlanDraft, before: Row | None) -> dict[str, Any]:
    """What is kept of a draft; of a plan whose legs stay as they were, the market it was made on stays too. Raises UnknownName,
    BadLegs, NoQuotes."""
    plain = read_legs(draft.legs)
    at = view.row(draft.symbol)
    symbol = view.name(at).symbol
    values: dict[str, Any] = {
        "symbol": symbol,
        "legs": write_legs(plain),
        "why": draft.why.model_dump(),
        "entry_limit": draft.entry_limit,
        "exits": draft.exits.model_dump(mode="json"),
        "notes": draft.notes.strip(),
    }
    if before is not None and (before.symbol, before.legs) == (symbol, values["legs"]):
        kept = ("label", "made_on", "data_version", "cost", "max_profit", "spot")
        return values | {key: getattr(before, key) for key in kept}
    priced = price_legs(view, at, name_board(view, at), plain)
    return values | {
        "label": priced.label,
        "made_on": view.today,
        "data_version": view.data_version,
        "cost": priced.cost,
        "max_profit": priced.max_profit,
        "spot": priced.spot,
    }


def plan_view(view: View, row: Row, boards: dict[int, Board] | None = None) -> PlanView:
    """One plan now; what cannot be priced says why. `boards` are those of its name and others, read before."""
    exits = Exits(**row.exits)
    worth = price = None
    problem: str | None = None
    plain = PlainLegs([], 0)
    try:
        plain = read_legs(row.legs)
        at = view.row(row.symbol)
        board = name_board(view, at) if boards is None else board_of(view, boards, at)
        priced = price_legs(view, at, board, plain)
        worth, price, problem = priced.mid, priced.spot, priced.problem
    except FlinchError as error:
        problem = str(error)
    ends = min((leg.expiration for leg in plain.options), default=view.today)
    profit = None if worth is None or row.cost is None else worth - row.cost
    days_left = (ends - view.today).days
    return PlanView(
        id=row.id,
        version=row.version,
        symbol=row.symbol,
        legs=row.legs,
        label=row.label,
        words=leg_words(plain) or row.legs,
        why=PlanWhy(**row.why),
        entry_limit=row.entry_limit,
        exits=exits,
        notes=row.notes,
        made_on=row.made_on,
        data_version=row.data_version,
        cost=row.cost,
        spot=row.spot,
        price=price,
        worth=worth,
        profit=profit,
        days_left=days_left,
        exits_now=_exits(view, row, exits, profit, price, days_left),
        problem=problem,
    )


def _exits(
    view: View, row: Row, exits: Exits, profit: float | None, price: float | None, days_left: int
) -> list[ExitNow]:
    out = []
    if exits.profit_pct is not None:
        aim = row.max_profit if row.max_profit is not None else None if row.cost is None else abs(row.cost)
        wanted = None if aim is None else aim * exits.profit_pct / 100
        what = "the greatest profit" if row.max_profit is not None else "the cost"
        words = f"a profit of {exits.profit_pct:g} % of {what}" + ("" if wanted is None else f" ({wanted:,.0f} $)")
        reached = None if profit is None or wanted is None else profit >= wanted
        out.append(ExitNow(key="profit_pct", words=words, reached=reached))
    if exits.loss_pct is not None:
        limit = None if row.cost is None else abs(row.cost) * exits.loss_pct / 100
        what = "received" if row.cost is not None and row.cost < 0 else "paid"
        words = f"a loss of {exits.loss_pct:g} % of what was {what}" + ("" if limit is None else f" ({limit:,.0f} $)")
        reached = None if profit is None or limit is None else profit <= -limit
        out.append(ExitNow(key="loss_pct", words=words, reached=reached))
    if exits.days_left is not None:
        words = f"{exits.days_left} days left"
        out.append(ExitNow(key="days_left", words=words, reached=days_left <= exits.days_left))
    if exits.price_above is not None:
        reached = None if price is None else price >= exits.price_above
        words = f"price at {exits.price_above:,.2f} or above"
        out.append(ExitNow(key="price_above", words=words, reached=reached))
    if exits.price_below is not None:
        reached = None if price is None else price <= exits.price_below
        words = f"price at {exits.price_below:,.2f} or below"
        out.append(ExitNow(key="price_below", words=words, reached=reached))
    if exits.on is not None:
        out.append(ExitNow(key="on", words=f"on {exits.on:%-d %b %Y}", reached=view.today >= exits.on))
    return out
