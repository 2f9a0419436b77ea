"""An evening's work on the Screen: starters, screens that are kept, past sessions, views, lists, files, the Handbook."""

import re

import openpyxl
import pytest
from playwright.sync_api import Page
from tests.browser.addresses import address
from tests.browser.screen_page import RULES, add_rule, open_screen, rows, survivors, symbols
from tests.browser.settled import expect


def test_from_a_starter_to_a_file(quiet_page: Page, tmp_path):
    """The whole of it: a starter, loosened by Aim, what changed, saved, reloaded, taken out and read back."""
    page = open_screen(quiet_page)
    page.keyboard.press("o")
    page.get_by_label("Find a screen").fill("sell")
    page.get_by_role("dialog").get_by_role("button", name="Premium to sell").click()
    expect(page.locator(".stack h1")).to_contain_text("Premium to sell")
    expect(page.locator(".stack-about")).to_contain_text("Sellers are paid for that gap")
    expect(page.locator(".results h2")).to_contain_text("of 480")
    before = survivors(page)

    aim = page.get_by_label("Aim for a number of names")
    aim.fill(str(before + 12))
    aim.press("Enter")
    ratio = page.locator('.rule[data-metric="iv_hv_ratio"]')
    ratio.locator(".aim").click()
    expect(page.locator(".results h2")).to_contain_text(f"{before + 12} names")
    expect(page.locator(".stack-state")).to_contain_text("changed")

    page.get_by_role("button", name="what changed").click()
    changed = page.get_by_role("region", name="What changed")
    expect(changed).to_contain_text("since 8 Sep 2026")
    came = int(re.search(r"(\d+) came in", changed.inner_text()).group(1))
    expect(changed.locator("dd").first.locator("a")).not_to_have_count(0)
    assert came > 0
    page.get_by_role("button", name="what changed").click()

    page.get_by_role("button", name="save as").click()
    page.get_by_label("Name", exact=True).fill("Abends ☕ 売り")
    page.get_by_role("button", name="save", exact=True).click()
    expect(page.locator(".stack h1")).to_contain_text("Abends ☕ 売り")
    expect(page.locator(".stack-state")).not_to_contain_text("changed")
    kept = symbols(page)
    page.reload()
    expect(rows(page).first).to_be_visible()
    expect(page.locator(".stack h1")).to_contain_text("Abends ☕ 売り")
    assert symbols(page) == kept

    page.get_by_role("button", name="take out").first.click()
    with page.expect_download() as download:
        page.get_by_role("button", name="as XLSX").click()
    assert download.value.suggested_filename == "Abends ☕ 売り 2026-09-09.xlsx"
    file = tmp_path / "out.xlsx"
    download.value.save_as(file)
    sheet = openpyxl.load_workbook(file)
    written = [row[0].value for row in sheet.worksheets[0].iter_rows(min_row=2)]
    assert len(written) == before + 12
    assert written[: len(kept)] == kept
    assert sheet.worksheets[0].auto_filter.ref

    page.keyboard.press("o")
    page.locator("li", has_text="Abends").get_by_role("button", name="delete").click()
    expect(page.get_by_role("dialog")).to_contain_text("was deleted")
    page.get_by_role("dialog").get_by_role("button", name="undo").click()
    expect(page.get_by_role("button", name="Abends ☕ 売り", exact=True)).to_be_visible()
    page.locator("li", has_text="Abends").get_by_role("button", name="delete").click()
    expect(page.get_by_role("dialog")).to_contain_text("was deleted")


def test_changes_are_never_lost_by_opening_another_screen(quiet_page: Page):
    page = open_screen(quiet_page, "/screen?screen=s-premium-to-buy")
    add_rule(page, "price >= 33")
    expect(page.locator(".stack-state")).to_contain_text("changed")
    page.keyboard.press("Escape")
    page.locator(".stack h1 button").click()
    page.get_by_role("button", name="Fresh breakouts on volume").click()
    expect(page.locator(".stack-aside")).to_contain_text("Your changes to Premium to buy were put aside.")
    page.get_by_role("button", name="bring back").click()
    expect(page.locator(".stack h1")).to_contain_text("Premium to buy")
    expect(page.locator(".stack .rule").last).to_contain_text("Price")
    page.get_by_role("button", name="revert").click()
    expect(page.locator(".stack-state")).not_to_contain_text("changed")


def test_any_past_session_and_the_peek_goes_there_too(quiet_page: Page):
    page = open_screen(quiet_page, address("iv_percentile >= 80"))
    now = survivors(page)
    page.keyboard.press("[")
    expect(page.locator(".as-of")).to_have_class(re.compile("past"))
    expect(page).to_have_url(re.compile("asof=2026-09-08"))
    page.get_by_label("As of").select_option("2026-03-02")
    expect(page.locator(".results h2")).not_to_contain_text(f"{now} names")
    page.keyboard.press("r")
    page.keyboard.press("ArrowDown")
    expect(page.get_by_role("complementary", name="Peek")).to_contain_text("as of 2 Mar 2026")
    page.get_by_role("button", name="now", exact=True).click()
    expect(page.locator(".results h2")).to_contain_text(f"{now} names")


def test_columns_are_chosen_and_two_keys_sort(quiet_page: Page):
    page = open_screen(quiet_page, address("price >= 20"))
    page.get_by_role("button", name="columns").click()
    page.get_by_label("Find a metric").fill("sector")
    page.get_by_role("dialog").get_by_text("Sector", exact=True).click()
    page.get_by_role("button", name="Leave HV21").or_(page.get_by_role("button", name="Leave Historical")).first.click()
    page.keyboard.press("Escape")
    expect(page.locator("th.col-sector")).to_have_count(1)
    expect(page.locator("th.col-hv21")).to_have_count(0)
    page.locator("th.col-sector button").click()
    page.locator("th.col-sector button").click()
    page.locator("th.col-price button").click(modifiers=["Shift"])
    expect(page.locator("th.col-price")).to_have_attribute("aria-sort", "descending")
    pairs = list(
        zip(
            rows(page).locator("td.col-sector").all_inner_texts(),
            [float(t.replace(",", "")) for t in rows(page).locator("td.col-price").all_inner_texts()],
            strict=True,
        )
    )
    assert pairs == sorted(pairs, key=lambda pair: (pair[0], -pair[1]))
    page.reload()
    expect(page.locator("th.col-sector")).to_have_attribute("aria-sort", "ascending")


def test_the_gallery_is_walked_and_the_map_has_its_legend(quiet_page: Page):
    page = open_screen(quiet_page, RULES)
    page.keyboard.press("2")
    tiles = page.locator(".tile")
    expect(tiles.first.locator("svg")).to_be_visible()
    page.keyboard.press("r")
    page.keyboard.press("ArrowRight")
    page.keyboard.press("ArrowRight")
    peek = page.get_by_role("complementary", name="Peek")
    expect(peek.get_by_role("heading", level=2)).to_have_text(tiles.nth(1).locator("b").inner_text())
    page.get_by_label("What the charts show").select_option("volatility")
    page.get_by_label("Size of the charts").select_option("small")
    expect(page).to_have_url(re.compile("chart=volatility.*size=small"))
    expect(page.locator(".tile .priced-outer").first).to_be_visible()
    page.get_by_role("listbox", name="Surviving names as charts").press("End")
    expect(page.locator(".tile.focused")).to_be_in_viewport()
    page.get_by_text("map", exact=True).click()
    expect(page.locator(".map-chart svg")).to_be_visible()
    page.get_by_label("Shade", exact=True).select_option("iv_rank")
    expect(page.locator(".map-legend")).to_contain_text("IV rank")
    page.locator(".map-chart").focus()
    page.keyboard.press("ArrowRight")
    expect(peek.get_by_role("heading", level=2)).to_be_visible()


def test_symbols_are_copied_with_one_key(quiet_page: Page, context):
    context.grant_permissions(["clipboard-read", "clipboard-write"])
    page = open_screen(quiet_page, RULES)
    page.keyboard.press("c")
    expect(page.locator(".said")).to_contain_text("symbols copied")
    copied = page.evaluate("navigator.clipboard.readText()").split(", ")
    assert len(copied) == survivors(page)
    assert copied[: len(symbols(page))] == symbols(page)


def test_an_own_metric_is_made_and_used_with_a_reference_line(quiet_page: Page):
    page = quiet_page
    page.goto("/handbook")
    page.get_by_role("button", name="your own metrics").click()
    page.get_by_role("button", name="make one").click()
    page.get_by_label("Name in rules").fill("dear_ratio")
    page.get_by_label("Label").fill("Dear against its year")
    page.get_by_label("Unit").fill("×")
    page.get_by_label("Expression").fill("iv30 / mean(iv30, 252")
    page.get_by_role("button", name="keep", exact=True).click()
    expect(page.get_by_role("alert")).to_contain_text("bracket is not closed")
    page.get_by_label("Expression").fill("iv30 / mean(iv30, 252)")
    page.get_by_role("button", name="keep", exact=True).click()
    expect(page.get_by_role("button", name="Dear against its year")).to_be_visible()
    try:
        open_screen(page, address("dear_ratio >= 1.2", cols="price\ndear_ratio", sort="-dear_ratio"))
        found = [float(text) for text in rows(page).locator("td.col-dear_ratio").all_inner_texts()]
        assert min(found) >= 1.195
        assert found == sorted(found, reverse=True)
        expect(page.locator("th.col-dear_ratio")).to_contain_text("Dear agai")
        page.goto("/dossier/TARNO?over=dear_ratio")
        figure = page.locator(".figure", has_text="Over time")
        line = figure.get_by_label("Reference line")
        line.fill("1")
        line.press("Enter")
        expect(figure.locator("h2")).to_contain_text(re.compile(r"\d+ % of 253 sessions above 1.00 ×"))
        expect(page).to_have_url(re.compile("line=1"))
        figure.get_by_role("button", name="show as table").click()
        expect(figure.locator("tbody tr")).to_have_count(504)
    finally:
        for metric in page.request.get("/api/own-metrics").json()["metrics"]:
            page.request.delete(f"/api/own-metrics/{metric['id']}")


def test_results_are_intersected_with_a_pasted_list(quiet_page: Page):
    page = open_screen(quiet_page, RULES)
    first, second = symbols(page)[:2]
    page.keyboard.press("l")
    page.get_by_label("One list", exact=True).select_option("results")
    page.get_by_label("Paste symbols").fill(f"{first.lower()};{second}\nKOSVU, {first}")
    dialog = page.get_by_role("dialog")
    expect(dialog).to_contain_text("2 symbols found · not listed: KOSVU")
    expect(dialog.locator(".parts")).to_contain_text("∩ in both 2")
    expect(dialog.locator(".names")).to_have_text(f"{first}, {second}")
    dialog.get_by_role("button", name="make them the tray").click()
    expect(dialog.get_by_role("status").first).to_contain_text("The tray is these names now.")
    dialog.get_by_label("Name of a new basket").fill("Beides")
    dialog.get_by_role("button", name="save").click()
    expect(dialog.locator(".baskets li")).to_contain_text("Beides 2 names")
    page.keyboard.press("Escape")
    expect(page.get_by_role("region", name="Tray").locator(".chip")).to_have_text([first, second])
    page.get_by_label("Universe").select_option("tray")
    expect(page.locator(".results h2")).to_contain_text("2 names survive of 2")
    page.get_by_label("Universe").select_option(label="Beides (2)")
    expect(page.locator(".results h2")).to_contain_text("2 names survive of 2")
    for basket in page.request.get("/api/baskets").json()["own"]:
        page.request.delete(f"/api/baskets/{basket['id']}")


def test_every_column_leads_to_its_entry_in_the_handbook(quiet_page: Page):
    page = open_screen(quiet_page)
    page.locator("th.col-iv_rank button").hover()
    page.locator(".definition").get_by_role("link", name="Handbook").click()
    expect(page).to_have_url(re.compile(r"/handbook/iv_rank\?market=demo$"))
    expect(page.locator('[data-entry="iv_rank"]')).to_be_in_viewport()
    page.go_back()
    expect(rows(page).first).to_be_visible()
    page.keyboard.press("r")
    for _ in range(6):
        page.keyboard.press("ArrowRight")
    page.keyboard.press("h")
    expect(page).to_have_url(re.compile(r"/handbook/iv30\?market=demo$"))


def test_the_handbook_is_searched_and_tries_its_examples(quiet_page: Page):
    page = quiet_page
    page.goto("/handbook")
    entries = page.locator(".handbook-body article")
    expect(entries.first).to_be_visible()
    page.keyboard.press("f")
    page.keyboard.type("squeeze")
    expect(entries.first).to_contain_text("squeeze")
    assert 3 <= entries.count() <= 20
    expect(page).to_have_url(re.compile("q=squeeze"))
    page.locator('[data-entry="squeeze_length"]').get_by_role("link", name="screen on it").click()
    expect(page.locator('.rule[data-metric="squeeze_length"]')).to_be_visible()
    page.goto("/handbook/no_such_number")
    expect(page.get_by_role("alert")).to_contain_text("no entry “no_such_number”")


@pytest.fixture
def nothing_kept(quiet_page: Page):
    """Screens and baskets made by a test go with it."""
    yield
    for screen in quiet_page.request.get("/api/screens").json()["saved"]:
        quiet_page.request.delete(f"/api/screens/{screen['id']}")
    for basket in quiet_page.request.get("/api/baskets").json()["own"]:
        quiet_page.request.delete(f"/api/baskets/{basket['id']}")


def save_as(page: Page, name: str) -> None:
    page.get_by_role("button", name="save as").click()
    page.get_by_label("Name", exact=True).fill(name)
    page.get_by_role("dialog").get_by_role("button", name="save", exact=True).click()


def test_a_screen_is_replaced_renamed_and_duplicated(quiet_page: Page, nothing_kept):
    page = open_screen(quiet_page, address("price >= 20"))
    save_as(page, "Mine")
    expect(page.locator(".stack h1")).to_contain_text("Mine")
    add_rule(page, "iv_rank >= 50")
    expect(page.locator(".stack-state")).to_contain_text("changed")
    page.get_by_role("button", name="save", exact=True).click()
    expect(page.locator(".stack-state")).not_to_contain_text("changed")

    add_rule(page, "iv_percentile >= 50")
    expect(page.locator(".stack-state")).to_contain_text("changed")
    save_as(page, "Mine")
    dialog = page.get_by_role("dialog")
    expect(dialog.get_by_role("alert")).to_contain_text("Mine is there already.")
    dialog.get_by_role("button", name="replace it").click()
    expect(dialog).to_have_count(0)
    expect(page.locator(".stack .rule")).to_have_count(3)
    page.reload()
    expect(page.locator(".stack .rule")).to_have_count(3)

    page.keyboard.press("o")
    page.get_by_role("button", name="duplicate").click()
    expect(page.get_by_role("button", name="Mine (copy)", exact=True)).to_be_visible()
    page.locator("li", has_text="Mine (copy)").get_by_role("button", name="rename").click()
    page.get_by_label("Name", exact=True).fill("Yours")
    page.get_by_label("Tags").fill("evening, sell, evening")
    page.get_by_role("button", name="keep", exact=True).click()
    expect(page.locator("li", has_text="Yours")).to_contain_text("evening · sell")
    page.get_by_label("Find a screen").fill("evening")
    expect(page.locator(".screens li", has_text="3 rules")).to_have_count(1)
    page.get_by_role("button", name="Yours", exact=True).click()
    expect(page.locator(".stack h1")).to_contain_text("Yours")
    expect(page.locator(".stack .rule")).to_have_count(3)


def test_what_changed_since_the_last_look_at_a_saved_screen(quiet_page: Page, nothing_kept):
    page = open_screen(quiet_page, address("iv_percentile >= 98", asof="2026-09-02"))
    then = symbols(page)
    with page.expect_response(re.compile(r"/look\?")):
        save_as(page, "Watched")
    expect(page.locator(".stack h1")).to_contain_text("Watched")
    with page.expect_response(re.compile(r"/look\?")):
        page.get_by_role("button", name="now", exact=True).click()
    expect(page.locator(".as-of.past")).to_have_count(0)
    page.get_by_role("button", name="what changed").click()
    page.get_by_label("Compare with").select_option("look")
    changed = page.get_by_role("region", name="What changed")
    expect(changed).to_contain_text("since 2 Sep 2026")
    gone = changed.locator("h3", has_text="went out").locator("xpath=..").locator("dd a").all_inner_texts()
    assert gone
    assert set(gone) <= set(then)
    assert not set(gone) & set(symbols(page))
    expect(changed.locator("dt").first).to_contain_text("iv_percentile >= 98")


def test_a_basket_is_edited_by_picking_and_its_removal_undone(quiet_page: Page, nothing_kept):
    page = open_screen(quiet_page)
    page.keyboard.press("l")
    dialog = page.get_by_role("dialog")
    page.get_by_label("Paste symbols").fill("TARNO KOSVU")
    dialog.get_by_text("only in what was pasted").click()
    dialog.locator(".unknown").get_by_role("button", name="KOSVI").click()
    expect(dialog.locator(".names")).to_have_text("TARNO, KOSVI")
    dialog.get_by_label("Name of a new basket").fill("Picked")
    dialog.get_by_role("button", name="save").click()
    dialog.get_by_role("button", name="Picked").click()
    dialog.get_by_label("Pick a name for Picked").fill("belua")
    dialog.get_by_label("Pick a name for Picked").press("Enter")
    expect(dialog.locator(".members span")).to_have_count(3)
    dialog.get_by_role("button", name="Take TARNO out of Picked").click()
    expect(dialog.locator(".members span")).to_have_text([re.compile("KOSVI"), re.compile("BELUA")])
    dialog.locator(".baskets").get_by_role("button", name="delete").click()
    expect(dialog).to_contain_text("Picked was deleted.")
    dialog.get_by_role("button", name="undo").click()
    expect(dialog.locator(".baskets li")).to_contain_text("2 names")
    page.get_by_label("Another list").select_option("sector:Household")
    page.get_by_label("One list", exact=True).select_option(label="Picked")
    expect(dialog.locator(".parts")).to_contain_text("∪ in either 42")
    dialog.get_by_text("in either").click()
    dialog.get_by_role("button", name="add to the tray").click()
    count = page.locator(".tray-count")
    expect(count).to_have_text("42")
    page.get_by_label("One list", exact=True).select_option("tray")
    dialog.get_by_text("in both").click()
    dialog.get_by_role("button", name="remove from the tray").click()
    expect(count).to_have_text("2")
    page.keyboard.press("Escape")
    expect(dialog).to_have_count(0)
    page.keyboard.press("u")
    expect(count).to_have_text("42")


def test_the_tray_is_taken_out_with_why_and_the_values_then(quiet_page: Page, tmp_path):
    page = open_screen(quiet_page, RULES)
    page.keyboard.press("r")
    page.keyboard.press("ArrowDown")
    page.keyboard.press("t")
    first = symbols(page)[0]
    tray = page.get_by_role("region", name="Tray")
    expect(tray.locator(".chip")).to_have_text([first])
    tray.get_by_role("button", name="take out", exact=True).click()
    with page.expect_download() as download:
        page.get_by_role("button", name="as XLSX").click()
    file = tmp_path / "tray.xlsx"
    download.value.save_as(file)
    page_one = openpyxl.load_workbook(file).worksheets[0]
    titles, values = ([cell.value for cell in row] for row in page_one.iter_rows())
    row = dict(zip(titles, values, strict=True))
    assert row["Symbol"] == first
    assert "iv_hv_ratio >= 1.1" in row["Why it came"]
    ratio = "Implied over historical volatility"
    assert row[f"{ratio}, then (×)"] == pytest.approx(row[f"{ratio}, now (×)"])


def test_dialogs_and_views_keep_to_the_dim_theme_and_the_frame(quiet_page: Page):
    page = open_screen(quiet_page, "/screen?screen=s-premium-to-sell&vs=previous")
    page.keyboard.press("m")
    for key in ("2", "3", "1"):
        page.keyboard.press(key)
        expect(page.locator(".tile svg, .map-chart svg, .grid table").first).to_be_visible()
        overflow = page.evaluate(
            "document.documentElement.scrollHeight > innerHeight || document.body.scrollWidth > innerWidth"
        )
        assert not overflow
    for key in ("o", "l", "?"):
        page.keyboard.press(key)
        dialog = page.get_by_role("dialog")
        expect(dialog).to_be_visible()
        colours = dialog.locator(".modal-content").evaluate(
            "e => [getComputedStyle(e).backgroundColor, getComputedStyle(e).color]"
        )
        assert colours == ["rgb(48, 47, 43)", "rgb(236, 229, 214)"]
        page.keyboard.press("Escape")
        expect(dialog).to_have_count(0)


def test_a_file_that_cannot_be_written_says_so(quiet_page: Page):
    page = open_screen(quiet_page, RULES)
    page.route("**/api/screen/export?*", lambda route: route.abort())
    page.get_by_role("button", name="take out").first.click()
    page.get_by_role("button", name="as CSV").click()
    expect(page.locator(".said")).to_contain_text("Flinch's server does not answer")
