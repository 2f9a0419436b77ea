"""An option chain as a file: one contract a row."""

from __future__ import annotations

from flask import Response

from flinch.features.dossier.chain import ChainView
from flinch.feeds.export import MIME, Cell, Format, Heading, Sheet, write_sheet

_HEADINGS = (
    Heading("strike", "Strike", "$", 2),
    Heading("side", "Side", "", 0),
    Heading("bid", "Bid", "$", 2),
    Heading("ask", "Ask", "$", 2),
    Heading("width_pct", "Width", "%", 1),
    Heading("iv", "Implied volatility", "%", 2),
    Heading("fit_iv", "Fitted volatility", "%", 2),
    Heading("off_fit", "Mid less fit", "$", 3),
    Heading("delta", "Delta", "", 3),
    Heading("gamma", "Gamma", "", 4),
    Heading("theta", "Theta a day", "$", 3),
    Heading("vega", "Vega a point", "$", 3),
    Heading("volume", "Volume", "contracts", 0),
    Heading("open_interest", "Open interest", "contracts", 0),
)


def as_file(view: ChainView, format: Format) -> Response:
    """Calls and puts of one expiration by strike."""
    rows: list[list[Cell]] = []
    for row in view.rows:
        for side in ("call", "put"):
            contract = getattr(row, side)
            if contract is not None:
                own = {"strike": row.strike, "side": side, "fit_iv": row.fit_iv}
                rows.append([own[h.key] if h.key in own else getattr(contract, h.key) for h in _HEADINGS])
    notes = [
        ("Name", view.symbol),
        ("Expiration", str(view.expiration)),
        ("Price", f"{view.spot:.2f}"),
        ("Exercise", view.exercise),
        ("Forward", f"{view.forward:.4f}" if view.forward else ""),
        ("Fit quality", f"{view.quality:.0f}" if view.quality is not None else ""),
        ("Flaw", view.flaw),
    ]
    sheet = Sheet(f"{view.symbol} {view.expiration}", _HEADINGS, rows, notes, [], ())
    name = f"{view.symbol}-{view.expiration}.{format}"
    return Response(
        write_sheet(sheet, format),
        mimetype=MIME[format],
        headers={"Content-Disposition": f'attachment; filename="{name}"'},
    )
