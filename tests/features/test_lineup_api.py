"""Lineup over HTTP: values and baselines are the catalogue's, callouts are true, correlations are NumPy's."""

import numpy as np
import pytest
from flask.testing import FlaskClient

from flinch.market import View


@pytest.fixture
def lineup(client: FlaskClient):
    def ask(status: int = 200, **body):
        answer = client.post("/api/lineup", json=body)
        assert answer.status_code == status, answer.text
        return answer.json

    return ask


@pytest.mark.parametrize(
    ("baseline", "metric"), [("mean252", "iv_mean_252"), ("hv", "hv21"), ("forecast", "forecast_vol")]
)
def test_rows_are_the_catalogues_values(lineup, market: View, baseline, metric):
    found = lineup(source="sector:Optics & Orbital", baseline=baseline)
    assert len(found["rows"]) == 40
    for row in found["rows"]:
        place = market.row(row["symbol"])
        assert market.frame.names[place].sector == "Optics & Orbital"
        assert row["value"] == pytest.approx(market.metric("iv30")[place], nan_ok=True)
        assert row["baseline"] == pytest.approx(market.metric(metric)[place], nan_ok=True)
        assert row["change"] == pytest.approx(row["value"] - row["baseline"])
        assert row["ratio"] == pytest.approx(row["value"] / row["baseline"])
        assert row["percentile"] == pytest.approx(market.metric("iv_percentile")[place])


def test_callouts_name_the_extremes(lineup):
    found = lineup(source="sector:Household", baseline="mean252")
    rows, said = found["rows"], {c["kind"]: c["symbol"] for c in found["callouts"]}

    def most(key, sign=1):
        return max((row for row in rows if row[key] is not None), key=lambda row: sign * row[key])["symbol"]

    assert said == {
        "rose most": most("change"),
        "fell most": most("change", -1),
        "highest": most("value"),
        "lowest": most("value", -1),
        "furthest above its own past": most("deviations"),
        "furthest below its own past": most("deviations", -1),
    }


def test_any_expression_is_a_metric_or_a_baseline_and_a_bad_one_is_told(lineup):
    found = lineup(source="fund", metric="iv30 - hv21", baseline="own", own="mean(iv30 - hv21, 63)")
    assert len(found["rows"]) == 20
    assert np.isfinite([row["change"] for row in found["rows"]]).all()
    assert "baseline: " in lineup(422, source="fund", baseline="own", own="iv99")["message"]
    assert "not a number" in lineup(422, source="fund", metric="iv30 > 5")["message"]
    assert lineup(422, source="sector:Nowhere")["type"] == "no_such_group"


def test_braces_in_an_own_baseline_are_text(lineup, client: FlaskClient):
    draft = {"key": "odd_one", "label": "{odd} one", "unit": "%", "expression": "hv63", "decimals": 1}
    made = client.post("/api/own-metrics", json=draft)
    assert made.status_code == 200, made.text
    found = lineup(source="fund", baseline="own", own="odd_one")
    assert any("{odd} one" in callout["words"] for callout in found["callouts"])
    client.delete(f"/api/own-metrics/{made.json['id']}")


def test_a_fund_implies_more_correlation_than_its_members_show(lineup):
    fund = lineup(source="members:FELRO")["fund"]
    assert fund["implied_correlation"][-1] > fund["realised_correlation"][-1] + 0.25
    assert f"{fund['implied_correlation'][-1]:.2f}" in fund["sentence"]
    assert len(fund["sessions"]) == len(fund["members_iv30"]) == 504


def test_an_empty_tray_is_an_empty_lineup(lineup):
    found = lineup(source="tray")
    assert found["rows"] == []
    assert found["callouts"] == []


def test_correlations_are_of_daily_returns(client: FlaskClient, market: View):
    symbols = ["DEMEO", "BULVI", "KUTRO", "DREMO"]
    found = client.post("/api/lineup/correlation", json={"symbols": symbols, "sessions": 252}).json
    close = market.frame.close[[market.row(symbol) for symbol in symbols], -253:]
    expected = np.corrcoef(np.diff(np.log(close), axis=1))
    assert np.array(found["matrix"]) == pytest.approx(expected)
    off = expected[np.triu_indices(4, 1)]
    assert found["average"] == pytest.approx(off.mean())
    assert found["strongest"][0]["correlation"] == pytest.approx(off.max())
    assert found["weakest"][0]["correlation"] == pytest.approx(off.min())
    answer = client.post("/api/lineup/correlation", json={"symbols": ["DEMEO", "DEMEX"]})
    assert answer.status_code == 404
