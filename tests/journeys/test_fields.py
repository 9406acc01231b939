"""Fields and Readers through the real interface: a file mapped on its first rows, a syntax tried, one reader's copy read and rendered."""

import re
from typing import Any

from playwright.sync_api import expect

from jetwind.apps.intake.models import Mailing
from jetwind.apps.workspace.models import SampleReader
from tests.factories import GOOD_HTML, mail
from tests.journeys.test_release import drop

ROWS = b"First name;Who;Member\nMaximiliana-Theodora;Longest;yes\nAl;Shortest;\n"


def test_from_a_file_to_a_readers_copy(house: Any, sign_in: Any, start_worker: Any, live_server: Any) -> None:
    """A reviewer takes readers in, describes a syntax, and sees the message as each reader gets it, in words and as a picture."""
    start_worker()
    page = sign_in("reviewer")
    page.goto("/readers/")
    page.get_by_label("From a file").set_input_files({"name": "r.csv", "mimeType": "text/csv", "buffer": ROWS})
    expect(page.get_by_text("2 readers, CSV, parted by semicolons, UTF-8")).to_be_visible()
    expect(page.get_by_label("What First name is taken for")).to_have_value("first_name")
    page.get_by_label("What Who is taken for").select_option("reader")
    page.get_by_label("What Member is taken for").select_option(label="a field “Member”")
    page.get_by_role("button", name="Take in").click()
    expect(page.get_by_text("2 readers are added")).to_be_visible()
    assert SampleReader.objects.get(name="Longest").values == {"first_name": "Maximiliana-Theodora", "Member": "yes"}

    page.goto("/settings/syntaxes/new/")
    for label, text in (
        ("Name", "Angles"), ("Mark before a field", "<<"), ("Mark after a field", ">>"), ("Mark before a default", "|"),
        ("Words that open a block", "if"), ("Words of another part", "else"), ("Words that end a block", "end"),
    ):  # fmt: skip
        page.get_by_label(label, exact=True).fill(text)
    page.get_by_label("A line of a message").fill("Dear <<first_name|friend>> <<first name>>")
    expect(page.locator("#tried")).to_contain_text("is the field first_name, with the default “friend”")
    expect(page.locator("#tried")).to_contain_text("cannot be read")
    page.get_by_role("button", name="Keep syntax").click()
    expect(page.get_by_text("Angles is kept")).to_be_visible()

    author = sign_in("author")
    html = re.sub(r"\{\{.*?\}\}", "you", GOOD_HTML).replace(
        "<h1>", "<p>Dear &lt;&lt;first_name&gt;&gt;, <<if Member>>your slot waits<<else>>come and see<<end>></p><h1>"
    )
    drop(author, "sale.eml", mail(html, text="Dear <<first_name>>"))
    author.wait_for_url("**/envelope/")
    assert Mailing.objects.get().syntax is not None
    author.get_by_role("navigation", name="Course").get_by_role("link", name="Fields").click()
    expect(author.get_by_label("Written in")).to_have_value(str(Mailing.objects.get().syntax_id))
    grid = author.get_by_role("region", name="Readers and fields")
    expect(grid.get_by_role("rowheader").first).to_contain_text("Nobody")
    grid.get_by_role("link", name="Longest").click()
    copy = author.get_by_role("group", name="The copy of Longest")
    expect(copy).to_contain_text("your slot waits")
    expect(copy.get_by_role("link", name="Maximiliana-Theodora")).to_be_visible()
    author.get_by_role("link", name="The 3 that show everything").click()
    expect(author.get_by_role("region", name="Readers and fields").get_by_role("rowheader")).to_have_count(3)

    author.goto(author.url.split("fields/")[0] + "fields/?reader=Shortest")
    author.get_by_role("link", name="See it rendered so").click()
    expect(author.get_by_label("As", exact=True)).to_have_value("Shortest")
    expect(author.get_by_role("img", name="The message in").first).to_be_visible(timeout=90_000)

    page.goto("/readers/")
    page.get_by_role("link", name="Shortest").click()
    page.get_by_role("button", name="Remove this reader").click()
    page.get_by_role("dialog").get_by_role("button", name="Remove the reader").click()
    expect(page.get_by_text("Shortest is removed")).to_be_visible()
    assert not SampleReader.objects.filter(name="Shortest").exists()
