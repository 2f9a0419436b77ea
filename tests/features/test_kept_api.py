"""What users keep: screens, own metrics and baskets, through HTTP on a real database."""

from collections.abc import Iterator

import pytest
from flask.testing import FlaskClient

BODY = {"universe": "stock", "rules": [{"text": "iv_rank >= 60"}], "columns": ["price"], "sort": ["-price"]}


def let_go(client: FlaskClient) -> None:
    for screen in client.get("/api/screens").json["saved"]:
        client.delete(f"/api/screens/{screen['id']}")
    for metric in client.get("/api/own-metrics").json["metrics"]:
        client.delete(f"/api/own-metrics/{metric['id']}")
    for basket in client.get("/api/baskets").json["own"]:
        client.delete(f"/api/baskets/{basket['id']}")


@pytest.fixture(autouse=True)
def nothing_kept(client: FlaskClient) -> Iterator[None]:
    """Whatever came before on this worker, and whatever comes after."""
    let_go(client)
    yield
    let_go(client)


def made(answer) -> dict:
    assert answer.status_code == 200, answer.text
    return answer.json


def test_a_screen_is_kept_changed_removed_and_restored(client: FlaskClient):
    draft = {"name": "Zu teuer ☕ 高い", "description": "Zeile\nzwei", "tags": ["sell", "täglich"], "body": BODY}
    screen = made(client.post("/api/screens", json=draft))
    (held,) = client.get("/api/screens").json["saved"]
    assert {key: held[key] for key in ("name", "description", "tags")} == {k: draft[k] for k in draft if k != "body"}
    assert held["body"]["rules"][0] == {"text": "iv_rank >= 60", "on": True, "bars": "day", "group": None}
    address = f"/api/screens/{screen['id']}"
    made(client.put(address, json=draft | {"name": "Other", "body": BODY | {"view": "map"}}))
    (held,) = client.get("/api/screens").json["saved"]
    assert (held["name"], held["body"]["view"]) == ("Other", "map")
    made(client.delete(address))
    assert client.get("/api/screens").json["saved"] == []
    assert client.delete(address).status_code == 404
    assert client.put(address, json=draft).status_code == 404
    made(client.post(f"{address}/restore"))
    assert [s["id"] for s in client.get("/api/screens").json["saved"]] == [screen["id"]]


def test_a_name_is_taken_once_and_its_holder_is_told(client: FlaskClient):
    first = made(client.post("/api/screens", json={"name": "Same", "body": BODY}))
    second = client.post("/api/screens", json={"name": "Same", "body": BODY})
    assert (second.status_code, second.json["type"], second.json["where"]) == (409, "name_taken", str(first["id"]))
    made(client.delete(f"/api/screens/{first['id']}"))
    made(client.post("/api/screens", json={"name": "Same", "body": BODY}))
    again = client.post(f"/api/screens/{first['id']}/restore")
    assert again.status_code == 409, "its name was given away meanwhile"
    case = made(client.post("/api/screens", json={"name": "same", "body": BODY}))
    assert case["name"] == "same"


def test_a_look_is_compared_with_the_one_before(client: FlaskClient):
    screen = made(client.post("/api/screens", json={"name": "Watched", "body": BODY}))
    address = f"/api/screens/{screen['id']}/look"

    def look(moment: str, *symbols: str):
        seen = {"session": moment[:10], "moment": moment, "symbols": list(symbols)}
        return made(client.post(address, json=seen))["before"]

    assert look("2026-09-08T10:00:00-04:00", "TARNO") is None
    before = look("2026-09-08T11:00:00-04:00", "TARNO", "BELUA")
    assert (before["session"], before["moment"], before["symbols"]) == (
        "2026-09-08",
        "2026-09-08T10:00:00-04:00",
        ["TARNO"],
    )
    before = look("2026-09-09T15:45:00-04:00", "HELMU")
    assert (before["moment"], before["symbols"]) == ("2026-09-08T11:00:00-04:00", ["TARNO", "BELUA"])
    unknown = {"session": "2026-09-09", "moment": "2026-09-09T15:45:00-04:00", "symbols": []}
    assert client.post("/api/screens/999999/look", json=unknown).status_code == 404


def test_an_own_metric_serves_in_rules_columns_and_over_time(client: FlaskClient):
    draft = {"key": "dear", "label": "Dear", "unit": "×", "expression": "iv30 / mean(iv30, 63)", "decimals": 3}
    metric = made(client.post("/api/own-metrics", json=draft))
    asked = {"stack": {"rules": [{"text": "dear >= 1.1"}]}, "columns": ["dear", "iv30 / mean(iv30, 63)"]}
    found = made(client.post("/api/screen", json=asked))
    own, plain = found["columns"]
    assert 0 < len(found["symbols"]) < 300
    assert own["numbers"] == plain["numbers"]
    assert (own["label"], own["unit"], own["decimals"]) == ("Dear", "×", 3)
    assert found["rules"][0]["metric"] == "dear"
    past = made(client.get("/api/dossier/over-time/TARNO?expression=dear&reference=1.0"))
    known = [value for value in past["values"] if value is not None]
    assert (past["known"], past["above"]) == (len(known), sum(value > 1 for value in known))
    assert past["label"] == "Dear"
    entry = next(m for m in client.get("/api/handbook").json["metrics"] if m["key"] == "dear")
    assert (entry["own"], entry["group"], entry["needs"]) == (metric["id"], "your own", ["iv30"])
    made(client.put(f"/api/own-metrics/{metric['id']}", json=draft | {"expression": "iv30"}))
    again = made(client.post("/api/screen", json=asked | {"columns": ["dear"]}))
    assert len(again["symbols"]) > 400
    made(client.delete(f"/api/own-metrics/{metric['id']}"))
    gone = made(client.post("/api/screen", json=asked))
    assert gone["rules"][0]["error"]["message"].startswith("There is no “dear”")


@pytest.mark.parametrize(
    ("change", "says", "where"),
    [
        ({"key": "iv30"}, "in the catalogue already", "key"),
        ({"key": "mean"}, "in the catalogue already", "key"),
        ({"key": "Big"}, "small letters", "key"),
        ({"key": "a b"}, "small letters", "key"),
        ({"key": "and"}, "small letters", "key"),
        ({"key": "größe"}, "small letters", "key"),
        ({"expression": "pricee + 1"}, "Did you mean price", "expression, character 1"),
        ({"expression": "1 + own"}, "own is defined by itself", "expression, character 5"),
        ({"expression": "price > 3"}, "An own metric is a number", "expression"),
        ({"expression": "sector"}, "An own metric is a number", "expression"),
    ],
)
def test_a_metric_that_will_not_do_is_refused(client: FlaskClient, change: dict, says: str, where: str):
    answer = client.post("/api/own-metrics", json={"key": "own", "label": "x", "expression": "price"} | change)
    assert answer.status_code == 422
    assert says in answer.json["message"]
    assert answer.json["where"] == where
    assert client.get("/api/own-metrics").json["metrics"] == []


def test_a_metric_that_others_stand_on_is_not_turned_against_them(client: FlaskClient):
    low = made(client.post("/api/own-metrics", json={"key": "low_one", "label": "x", "expression": "price"}))
    made(client.post("/api/own-metrics", json={"key": "top_one", "label": "x", "expression": "low_one + 1"}))
    circle = client.put(f"/api/own-metrics/{low['id']}", json={"key": "low_one", "label": "x", "expression": "top_one"})
    assert circle.status_code == 422
    renamed = client.put(f"/api/own-metrics/{low['id']}", json={"key": "other", "label": "x", "expression": "price"})
    assert "top_one could then not be computed" in renamed.json["message"]
    made(client.delete(f"/api/own-metrics/{low['id']}"))
    (left,) = client.get("/api/own-metrics").json["metrics"]
    assert "There is no “low_one”" in left["problem"]


def test_a_text_is_checked_while_it_is_typed(client: FlaskClient):
    fine = made(client.post("/api/check", json={"text": "sma(close, 50) > 3"}))
    assert (fine["kind"], fine["sessions"], fine["message"]) == ("condition", 50, None)
    whole = made(client.post("/api/check", json={"text": "ema(close, 8)"}))
    assert (whole["kind"], whole["sessions"]) == ("number", None)
    wrong = made(client.post("/api/check", json={"text": "price > clse"}))
    assert (wrong["kind"], wrong["start"], wrong["end"]) == (None, 8, 12)
    assert "close" in wrong["nearest"]
    daily = made(client.post("/api/check", json={"text": "iv30 > 3", "bars": "5"}))
    assert "daily value" in daily["message"]


def test_baskets_keep_names_and_sectors_and_funds_keep_themselves(client: FlaskClient):
    basket = made(client.post("/api/baskets", json={"name": "Mine", "symbols": ["tarno", "BELUA", "TARNO"]}))
    assert basket["symbols"] == ["TARNO", "BELUA"]
    listed = client.get("/api/baskets").json
    assert len(listed["sectors"]) == 12
    assert {sector["names"] for sector in listed["sectors"]} == {40}
    assert len(listed["funds"]) == 22
    unknown = client.put(f"/api/baskets/{basket['id']}", json={"name": "Mine", "symbols": ["TARNO", "KOSVU"]})
    assert unknown.status_code == 404
    assert "KOSVI" in unknown.json["nearest"]
    assert client.get("/api/baskets").json["own"][0]["symbols"] == ["TARNO", "BELUA"], "nothing half done"
    found = made(client.post("/api/screen", json={"stack": {"universe": f"basket:{basket['id']}"}}))
    assert sorted(found["symbols"]) == ["BELUA", "TARNO"]
    made(client.delete(f"/api/baskets/{basket['id']}"))
    gone = client.post("/api/screen", json={"stack": {"universe": f"basket:{basket['id']}"}})
    assert "not there any more" in gone.json["message"]
    made(client.post(f"/api/baskets/{basket['id']}/restore"))
    assert client.get("/api/baskets").json["own"][0]["name"] == "Mine"


@pytest.mark.parametrize(
    "text",
    [
        "TARNO,BELUA,HELMU",
        "tarno belua\nhelmu",
        "TARNO;BELUA|HELMU TARNO",
        "Symbol\tPrice\nTARNO\t79.68\nBELUA\t1,204.5\nHELMU\t105.00\n",
        '"TARNO", "BELUA", "HELMU"',
        "$TARNO ($BELUA) [HELMU].",
    ],
)
def test_symbols_are_read_from_text_of_any_shape(client: FlaskClient, text: str):
    found = made(client.post("/api/baskets/read", json={"text": text}))
    assert found["symbols"] == ["TARNO", "BELUA", "HELMU"]
    assert found["unknown"] == []


def test_words_that_are_no_symbols_are_listed_with_the_nearest(client: FlaskClient):
    found = made(client.post("/api/baskets/read", json={"text": "TARNO KOSVU 12.5 zzzzzz"}))
    assert found["symbols"] == ["TARNO"]
    assert [word["text"] for word in found["unknown"]] == ["KOSVU", "ZZZZZZ"]
    assert "KOSVI" in found["unknown"][0]["nearest"]


def test_any_list_can_be_read_as_symbols(client: FlaskClient):
    screen = made(client.post("/api/screens", json={"name": "Dear", "body": BODY}))
    ran = made(client.post("/api/screen", json={"stack": {"universe": "stock", "rules": BODY["rules"]}}))
    source = made(client.get(f"/api/baskets/source?source=screen:{screen['id']}"))
    assert source["symbols"] == ran["symbols"]
    household = made(client.get("/api/baskets/source?source=sector:Household"))["symbols"]
    assert len(household) == 40
    assert client.get("/api/baskets/source?source=screen:77777").status_code == 422


WHY = {"page": "Lists", "words": "in both", "link": "", "values": {}}


def tray(client: FlaskClient, op: str, *symbols: str, **more) -> list[str]:
    answer = made(client.put("/api/tray", json={"op": op, "symbols": list(symbols), "why": WHY, **more}))
    return [item["symbol"] for item in answer["items"]]


def test_set_arithmetic_on_the_tray_is_one_step_to_undo(client: FlaskClient):
    assert tray(client, "add", "TARNO", "BELUA", "HELMU") == ["TARNO", "BELUA", "HELMU"]
    assert tray(client, "keep", "BELUA", "KOSVI") == ["BELUA"]
    assert [i["symbol"] for i in made(client.post("/api/tray/undo"))["items"]] == ["TARNO", "BELUA", "HELMU"]
    assert tray(client, "remove", "TARNO", "KOSVI") == ["BELUA", "HELMU"]
    assert tray(client, "replace", "HELMU", "KOSVI") == ["HELMU", "KOSVI"]
    assert client.put("/api/tray", json={"op": "replace", "symbols": ["NOBODY"], "why": WHY}).status_code == 404
    assert [i["symbol"] for i in made(client.get("/api/tray"))["items"]] == ["HELMU", "KOSVI"]


def test_names_added_together_keep_their_own_values_and_are_taken_out_with_them(client: FlaskClient):
    tray(client, "add", "TARNO", "BELUA", values={"TARNO": {"iv30": 41.5}, "BELUA": {"iv30": None}})
    items = {item["symbol"]: item for item in made(client.get("/api/tray"))["items"]}
    assert items["TARNO"]["why"]["values"] == {"iv30": 41.5}
    text = client.get("/api/tray/export?format=csv").data.decode("utf-8-sig").split("\r\n")
    header, first = text[0].split(","), text[1].split(",")
    assert header[0] == "Symbol"
    row = dict(zip(header, first, strict=False))
    assert row["Symbol"] == "TARNO"
    assert "41.5" in first
