from __future__ import annotations

import datetime as dt

import numpy as np
from flask import Response
from flask_openapi3 import APIBlueprint

from flinch.core.volatility import LOOKBACK, historical_vol
from flinch.features.frame.schemas import Fact, MarketInfo, NameList, NameRow, Peek, SymbolPath
from flinch.web import Problem, market, reply

blueprint = APIBlueprint("frame", __name__, url_prefix="/api")


@blueprint.get("/market", responses={200: MarketInfo})
def read_market() -> Response:
    """What is loaded, and its as-of instant."""
    now = market()
    sessions = [dt.date.fromisoformat(str(day)) for day in now.frame.sessions[[0, -1]]]
    return reply(
        MarketInfo(
            source=now.frame.state.source,
            as_of=now.as_of,
            version=now.frame.state.data_version,
            names=len(now.frame.names),
            first_session=sessions[0],
            last_session=sessions[1],
        )
    )


@blueprint.get("/names", responses={200: NameList})
def list_names() -> Response:
    """Every listed name, for the jump-to-name search."""
    return reply(NameList(names=[NameRow(**name._asdict()) for name in market().frame.names]))


@blueprint.get("/peek/<path:symbol>", responses={200: Peek, 404: Problem})
def peek(path: SymbolPath) -> Response:
    """A name at a glance."""
    now = market()
    row = now.row(path.symbol)
    frame = now.frame
    name = frame.names[row]
    hv = historical_vol(*frame.bars(row), 21, estimator="yang_zhang")[-LOOKBACK:]
    facts = {key: Fact(value=float(c.values[row]), reason=c.reasons.get(row)) for key, c in now.columns.items()}
    return reply(
        Peek(
            symbol=name.symbol,
            company=name.company,
            kind=name.kind,
            sector=name.sector,
            facts=facts,
            sessions=[dt.date.fromisoformat(str(day)) for day in frame.sessions[-LOOKBACK:]],
            iv30=np.round(100 * frame.implied[30][row, -LOOKBACK:], 3).tolist(),
            hv21=np.round(100 * hv, 3).tolist(),
        )
    )
