"""Spam risk, Footer, the sender's papers and the house's own rulebooks on their screens, and by two people at once."""

from __future__ import annotations

import re
from datetime import date
from itertools import pairwise
from typing import Any

import pytest

from jetwind.apps.intake.models import Mailing, Revision
from jetwind.apps.intake.services import Details, add_revision, change_details
from jetwind.apps.jobs.models import Work
from jetwind.apps.links.models import Wire
from jetwind.apps.previews.models import Render
from jetwind.apps.review import sender_papers
from jetwind.apps.review.answers import check_now, is_outdated
from jetwind.apps.review.models import CheckRun, SenderPapers
from jetwind.apps.ui.refusal import NotAllowed, Refused
from jetwind.apps.workspace.models import SampleReader, Workspace
from jetwind.apps.workspace.rulebooks import as_table, keep_rulebook, remove_rulebook, rulebooks_of, say_what_signs
from jetwind.engines.names import NoAnswer, Zone
from tests.apps.helpers import checked, page_of, taken_in
from tests.apps.test_previews import render as rendered
from tests.factories import GOOD_HTML, mail

LOUD = mail("<p>Act now! Claim your prize! Buy! Now! Yes!</p>", None, Subject="YOU ARE A WINNER!!")
SALTMARSH: dict[str, Any] = {"From": "Saltmarsh Kiln Works <glaze@saltmarsh-kiln.example>"}


def page(house: Any, revision: Revision, station: str, query: str = "") -> str:
    """A screen as the reviewer gets it."""
    answer = house.client(house.reviewer).get(f"/mailings/{revision.mailing_id}/r{revision.number}/{station}/{query}")
    assert answer.status_code == 200
    return page_of(answer)


def sentences(revision: Revision) -> list[str]:
    """What the newest answers of a revision say."""
    run = CheckRun.objects.filter(revision=revision).order_by("-created_at").first()
    assert run is not None
    return [found.sentence for found in run.findings.all()]


class TestSpamRisk:
    """The running sum."""

    def test_reasons_with_their_evidence(self, house: Any) -> None:
        """Weight, place in the source, why; the bars run on from one to the next."""
        text = page(house, taken_in(house, LOUD), "spam-risk")
        assert "Rows of marks in the subject" in text
        assert re.search(r"data-reason=\"spam.subject-shouting\" data-weight=\"[\d.]+\"", text)
        assert 'aria-label="Source"' in text
        assert "<mark>Subject: YOU ARE A WINNER!!</mark>" in text
        bars = [(float(left), float(width)) for left, width in re.findall(r'<i class="" style="left: ([\d.]+)%; width: ([\d.]+)%">', text)]
        assert len(bars) > 4
        assert all(abs(one[0] + one[1] - other[0]) < 0.1 for one, other in pairwise(bars))

    def test_words_can_be_opened(self, house: Any) -> None:
        """Which pulled which way, and how hard."""
        text = page(
            house,
            taken_in(house, mail("<p>Free money: our business opportunity guarantees credit. Linux kernel patch wrote.</p>", None)),
            "spam-risk",
        )
        assert re.search(r"<td>money</td><td class=\"tight\">\+[\d.]+ right</td>", text)
        assert re.search(r"<td>wrote</td><td class=\"tight\">-[\d.]+ left</td>", text)

    def test_what_would_bring_it_below_the_line(self, house: Any) -> None:
        """The fewest changes, each with what helps, and the sum after them."""
        revision = taken_in(house, LOUD)
        text = page(house, revision, "spam-risk")
        assert "What would bring it below the line" in text
        said = re.search(r"would bring it to <b>([\d.-]+), (low|medium)</b>", text)
        assert said is not None
        query = re.search(r'href="(\?without=[^"]+)">See the sum without', text)
        assert query is not None
        assert f"{said[1]}, {said[2]}</output>" in page(house, revision, "spam-risk", query[1].replace("&amp;", "&"))

    def test_the_line_of_revisions(self, house: Any) -> None:
        """Each with its score, leading to it."""
        revision = taken_in(house, LOUD)
        add_revision(house.author, revision.mailing, mail(), "sale.eml")
        second = checked(revision.mailing)
        text = page(house, second, "spam-risk")
        first, last = (CheckRun.objects.filter(revision=one).latest("created_at").spam["score"] for one in (revision, second))
        assert f"Score by revision: r1 {first}, r2 {last}" in text
        assert f'href="/mailings/{revision.mailing_id}/r1/spam-risk/"' in text
        assert first > last

    def test_subjects_and_the_worst_reader(self, house: Any) -> None:
        """What differs by variant and by reader."""
        html = GOOD_HTML.replace("<h1>", "{% if first_name == 'Bo' %}<p>Act now! Claim your prize! Buy! Now! Yes!</p>{% endif %}<h1>")
        text = page(house, taken_in(house, mail(html)), "spam-risk")
        assert "The copy of Bo, which scores highest" in text

    def test_every_reason_is_listed(self, house: Any) -> None:
        """With its weight, and whether it was measured."""
        text = house.client(house.reviewer).get("/spam-reasons/").content.decode()
        assert text.count("<tr>") > 70
        assert "by hand" in text
        assert "959 unwanted messages" in text

    def test_answers_of_an_older_version_are_still_shown(self, house: Any) -> None:
        """They know nothing of places, words and other subjects."""
        revision = taken_in(house)
        CheckRun.objects.update(
            spam={
                "score": 3.5,
                "band": "medium",
                "reasons": [{"id": "spam.subject-missing", "name": "No subject", "weight": 3.5, "evidence": "x"}],
            }
        )
        assert "3.5, medium" in page(house, revision, "spam-risk")


class TestSenderPapers:
    """Who vouches for whom."""

    def test_the_practice_field_answers_for_the_demo(self, house: Any) -> None:
        """A template that will be signed: host, key and record hold, drawn and listed with the count."""
        say_what_signs(
            house.reviewer, house.workspace, {"domain": "saltmarsh-kiln.example", "selector": "spring", "host": "192.0.2.25"}, {}
        )
        revision = taken_in(house, mail(**SALTMARSH))
        text = page(house, revision, "sender")
        assert "The message has no signature yet" in text
        assert 'aria-label="SPF says pass; aligned; key is published; aligned; "' in text
        assert "asks for 2 of at most 10 look-ups" in text
        assert "2 of 10" in text
        assert "What to publish" not in text
        assert not [one for one in sentences(revision) if "DMARC" in one or "SPF" in one]

    def test_what_to_publish_when_it_fails(self, house: Any) -> None:
        """A host that the record does not name, and a selector without a key."""
        say_what_signs(
            house.reviewer, house.workspace, {"domain": "saltmarsh-kiln.example", "selector": "autumn", "host": "203.0.113.77"}, {}
        )
        revision = taken_in(house, mail(**SALTMARSH))
        text = page(house, revision, "sender")
        assert "v=spf1 ip4:203.0.113.77 include:_spf.saltmarsh-kiln.example ip4:192.0.2.25 -all" in text
        assert "autumn._domainkey.saltmarsh-kiln.example" in text
        assert "203.0.113.77 may not send for saltmarsh-kiln.example: its SPF record says fail." in sentences(revision)
        assert any(one.startswith("Neither SPF nor DKIM passes for saltmarsh-kiln.example") for one in sentences(revision))

    def test_strangers_domains_are_not_asked(self, house: Any) -> None:
        """Whoever sent a template in cannot make this machine ask their name servers."""
        revision = taken_in(house, mail(From="x@strangers.org"))
        assert sender_papers.asks_of(revision) == ""
        assert not SenderPapers.objects.exists()
        assert "is none of them" in page(house, revision, "sender")

    def test_the_house_s_own_domain_is_asked(self, house: Any, settings: Any, monkeypatch: pytest.MonkeyPatch) -> None:
        """Of the DNS, which a zone stands in for here; silence is no finding, and a second check asks nothing new."""
        settings.ASKS_DNS = True
        say_what_signs(house.reviewer, house.workspace, {"domain": "kiln.org", "host": "192.0.2.25"}, {})
        zone = Zone.read('kiln.org. TXT "v=spf1 ip4:192.0.2.25 -all"\n_dmarc.kiln.org. TXT "v=DMARC1; p=none"\n')
        asked: list[str] = []

        class Stand:
            name = "DNS"

            def records(self, name: str, type: Any) -> Any:
                asked.append(name)
                return zone.records(name, type)

        monkeypatch.setattr(sender_papers, "Dns", Stand)
        revision = taken_in(house)
        assert asked.count("kiln.org") == 1
        assert "SPF says pass" in page(house, revision, "sender")
        check_now(revision)
        assert asked.count("kiln.org") == 1

        class Silent:
            name = "DNS"

            def records(self, name: str, type: Any) -> Any:
                raise NoAnswer(f"nobody answers for {name}")

        monkeypatch.setattr(sender_papers, "Dns", Silent)
        sender_papers.ask_anew(house.reviewer, revision)
        check_now(revision)
        assert "nobody answers for kiln.org" in page(house, revision, "sender")
        assert not [one for one in sentences(revision) if "SPF" in one or "DMARC" in one]

    def test_asking_again_is_a_button(self, house: Any) -> None:
        """It has the checks run, and needs the right to look."""
        revision = taken_in(house, mail(**SALTMARSH))
        Work.objects.all().delete()
        address = f"/mailings/{revision.mailing_id}/r1/sender/ask/"
        assert house.client(house.reviewer).post(address).status_code == 302
        assert Work.objects.filter(kind="checks").count() == 1
        assert SenderPapers.objects.get().asked_for == {}

    def test_a_change_of_the_signing_asks_anew(self, house: Any) -> None:
        """And answers that hang on it no longer hold."""
        revision = taken_in(house, mail(**SALTMARSH))
        assert "sending host" not in str(sentences(revision))
        say_what_signs(house.reviewer, house.workspace, {"domain": "saltmarsh-kiln.example", "host": "203.0.113.77"}, {})
        assert is_outdated(Revision.objects.select_related("mailing__workspace").get(pk=revision.pk))
        check_now(Revision.objects.select_related("mailing__workspace").get(pk=revision.pk))
        assert any("203.0.113.77 may not send" in one for one in sentences(revision))

    @pytest.mark.parametrize(("pictures", "tried"), [("always", True), ("asked", False), ("never", False)])
    def test_the_mark_is_tried_where_pictures_are_fetched(
        self, house: Any, monkeypatch: pytest.MonkeyPatch, pictures: str, tried: bool
    ) -> None:
        """By the same way out as other pictures, and only where the workspace lets them be fetched by themselves."""
        Wire.objects.filter(workspace=house.workspace).update(pictures=pictures)
        asked: list[str] = []

        def loading(fetcher: Any) -> Any:
            return lambda address: asked.append(address) or "its picture does not load: status 404"

        monkeypatch.setattr("jetwind.apps.links.house.loading", loading)
        revision = taken_in(house, mail(**SALTMARSH))
        assert asked == (["https://pictures.saltmarsh-kiln.example/mark.svg"] if tried else [])
        said = "The BIMI record of saltmarsh-kiln.example: its picture does not load: status 404."
        assert (said in sentences(revision)) is tried

    def test_the_form(self, house: Any) -> None:
        """Keeps what is usable, names what is not, and is for those who configure."""
        client = house.client(house.reviewer)
        good = {"domain": "Kiln.org", "selector": "spring", "host": "192.0.2.25", "return_path": "b.kiln.org"}
        assert client.post("/settings/sender/", good).status_code == 302
        assert Workspace.objects.get(pk=house.workspace.pk).signing == {**good, "domain": "kiln.org"}
        answer = client.post("/settings/sender/", {**good, "domain": "not a domain"})
        assert answer.status_code == 400
        assert "cannot be a signing domain" in answer.content.decode()
        assert client.post("/settings/sender/", {**good, "host": "mail.kiln.org"}).status_code == 400
        assert house.client(house.author).post("/settings/sender/", good).status_code == 403

    def test_two_say_what_signs(self, house: Any) -> None:
        """Each their own entry holds; the same entry otherwise is refused to the second."""
        shown = {"domain": "", "selector": "", "host": "", "return_path": ""}
        say_what_signs(house.reviewer, house.workspace, {**shown, "domain": "kiln.org"}, shown)
        say_what_signs(house.operator, house.workspace, {**shown, "selector": "spring"}, shown)
        assert house.workspace.signing == {"domain": "kiln.org", "selector": "spring", "host": "", "return_path": ""}
        with pytest.raises(Refused, match=r"set the signing domain to “kiln\.org” meanwhile"):
            say_what_signs(house.operator, house.workspace, {**shown, "domain": "elsewhere.net"}, shown)


GIVEN = {
    "name": "Quay",
    "demands": ["footer.reason-missing"],
    "words": ["Fired by hand"],
    "kinds": ["newsletter"],
    "countries": ["NL"],
    "since": date(2027, 1, 1),
    "until": None,
}


class TestHouseRulebooks:
    """Written by the workspace itself."""

    def test_written_and_checked(self, house: Any) -> None:
        """By kind, by country and by day; what changes has messages checked again."""
        keep_rulebook(house.reviewer, house.workspace, {**GIVEN, "since": None})
        raw = mail(GOOD_HTML.replace("come to the quay", "come"))
        revision = taken_in(house, raw, details=Details(kind="newsletter", countries=("NL",)))
        assert "“Fired by hand” of “Quay” does not stand in the HTML and the plain text." in sentences(revision)
        other = taken_in(house, raw, name="b.eml", details=Details(kind="newsletter", countries=("US",)))
        assert not [one for one in sentences(other) if "Fired by hand" in one]
        offer = taken_in(house, raw, name="c.eml", details=Details(kind="promotional", countries=("NL",)))
        assert not [one for one in sentences(offer) if "Fired by hand" in one]
        change_details(house.author, other.mailing, Details(title=other.mailing.title, kind="newsletter", countries=("NL", "US")))
        assert is_outdated(Revision.objects.select_related("mailing__workspace").get(pk=other.pk))

    def test_kept_as_it_was_written(self, house: Any) -> None:
        """Into the database and back."""
        book = keep_rulebook(house.reviewer, house.workspace, GIVEN)
        kept = Workspace.objects.get(pk=house.workspace.pk)
        assert rulebooks_of(kept) == (book,)
        assert as_table(book) == kept.house_rulebooks[0]

    def test_changed_by_two(self, house: Any) -> None:
        """The second is told, and nothing of the first is lost; a removed one comes back only as a new one."""
        book = keep_rulebook(house.reviewer, house.workspace, GIVEN)
        shown = as_table(book)
        keep_rulebook(house.operator, house.workspace, {**GIVEN, "words": ["Fired twice"]}, book.id, shown)
        with pytest.raises(Refused, match="Somebody set the words to"):
            keep_rulebook(house.reviewer, house.workspace, {**GIVEN, "words": ["Fired once"]}, book.id, shown)
        assert rulebooks_of(Workspace.objects.get(pk=house.workspace.pk))[0].words == ("Fired twice",)
        assert remove_rulebook(house.reviewer, house.workspace, book.id) == "Quay"
        assert remove_rulebook(house.operator, house.workspace, book.id) == ""
        with pytest.raises(Refused, match="Somebody removed this rulebook meanwhile"):
            keep_rulebook(house.reviewer, house.workspace, GIVEN, book.id, shown)

    @pytest.mark.parametrize(
        ("changes", "said"),
        [
            ({"name": " "}, "needs a name"),
            ({"demands": [], "words": []}, "demands nothing"),
            ({"countries": ["Holland"]}, "no country code"),
            ({"until": date(2026, 1, 1)}, "ends before it begins"),
        ],
    )
    def test_refused(self, house: Any, changes: dict[str, Any], said: str) -> None:
        """With the entry, and for those who may not."""
        with pytest.raises(Refused, match=said):
            keep_rulebook(house.reviewer, house.workspace, {**GIVEN, **changes})
        with pytest.raises(NotAllowed):
            keep_rulebook(house.author, house.workspace, GIVEN)

    def test_a_name_is_taken_once(self, house: Any) -> None:
        """Whatever its case."""
        keep_rulebook(house.reviewer, house.workspace, GIVEN)
        with pytest.raises(Refused, match="There is a rulebook “QUAY” already"):
            keep_rulebook(house.reviewer, house.workspace, {**GIVEN, "name": "QUAY"})

    def test_the_screens(self, house: Any) -> None:
        """Written, listed with its sources, changed, taken out; what was typed stays where it is refused."""
        client = house.client(house.reviewer)
        typed = {
            "name": "Quay",
            "demands": ["footer.reason-missing"],
            "words": "Fired by hand\nSigned by the maker",
            "kinds": ["newsletter"],
            "countries": "nl, DE",
            "since": "2027-01-01",
            "until": "",
        }
        assert client.post("/settings/rulebooks/new/", typed).status_code == 302
        listed = client.get("/settings/rulebooks/").content.decode()
        assert "“Signed by the maker”" in listed
        assert "to DE, NL" in listed
        assert "15 U.S.C. 7704(a)(5)(A)(iii)" in listed
        (book,) = rulebooks_of(Workspace.objects.get(pk=house.workspace.pk))
        address = f"/settings/rulebooks/{book.id}/"
        shown = re.search(r'name="shown" value="([^"]+)"', client.get(address).content.decode())
        assert shown is not None
        refused = client.post(address, {**typed, "countries": "Holland", "shown": shown[1]})
        assert refused.status_code == 400
        assert "Holland" in refused.content.decode()
        assert client.post(address, {**typed, "words": "Fired by hand", "shown": shown[1]}).status_code == 302
        assert client.post(address, {**typed, "words": "Something else", "shown": shown[1]}).status_code == 400
        assert client.post(address, {"do": "remove"}).status_code == 302
        assert client.get(address).status_code == 404
        assert house.client(house.author).post("/settings/rulebooks/new/", typed).status_code == 403

    def test_countries_of_the_audience(self, house: Any) -> None:
        """Typed in any way, kept as codes; a word that is none is refused."""
        revision = taken_in(house)
        client = house.client(house.author)
        address = f"/mailings/{revision.mailing_id}/details/"
        typed = {"title": "Sale", "kind": "promotional", "planned_zone": "UTC", "countries": "nl de,US"}
        assert client.post(address, typed).status_code == 302
        assert Mailing.objects.get().countries == ["DE", "NL", "US"]
        answer = client.post(address, {**typed, "countries": "Holland"})
        assert answer.status_code == 400
        assert "Codes of two letters" in answer.content.decode()


class TestFooterStation:
    """The footer beside what the rulebooks demand."""

    def test_demands_with_their_sources(self, house: Any) -> None:
        """Met, not met with words one could put in, and nothing to judge."""
        text = page(house, taken_in(house, mail("<p>Sale until Sunday</p>", None)), "footer")
        assert "15 U.S.C. 7704(a)(5)(A)(iii)" in text
        assert "not met" in text
        assert "nothing to judge" in text
        assert "“Unsubscribe”" in text
        assert "Canada: CASL s. 6(2)(a)" in text

    def test_suggestions_in_the_message_s_language(self, house: Any) -> None:
        """German words for a German message."""
        text = page(
            house,
            taken_in(
                house, mail("<html lang='de'><body><p>Zwölf Glasuren sind bis Sonntag um ein Fünftel billiger.</p></body></html>", None)
            ),
            "footer",
        )
        assert "“Newsletter abbestellen”" in text

    def test_one_rulebook(self, house: Any) -> None:
        """Only its demands; the house's own among them."""
        book = keep_rulebook(house.reviewer, house.workspace, {**GIVEN, "kinds": [], "countries": [], "since": None})
        revision = taken_in(house)
        own = page(house, revision, "footer", f"?rulebook={book.id}")
        assert "“Fired by hand”" in own
        assert "16 CFR 316.5" not in own
        assert "16 CFR 316.5" in page(house, revision, "footer", "?rulebook=united-states")

    def test_each_wording_of_the_house_by_itself(self, house: Any) -> None:
        """One stands in the message, the others do not."""
        keep_rulebook(
            house.reviewer,
            house.workspace,
            {"name": "Quay", "demands": [], "words": ["Fired by hand", "come to the quay", "Signed by the maker"]},
        )
        text = page(house, taken_in(house), "footer")
        states = dict(re.findall(r"<td>“([^”]+)”</td>\s*<td class=\"tight\"><span class=\"[a-z]*\">([^<]+)</span>", text))
        assert states == {"Fired by hand": "not met", "come to the quay": "met", "Signed by the maker": "not met"}

    def test_threads_to_the_words_on_the_render(self, house: Any, fake_browser: Any) -> None:
        """From each demand that words meet, to where they stand on the picture."""
        revision = taken_in(house)
        rendered(revision)
        assert Render.objects.filter(revision=revision, state="done").exists()
        text = page(house, revision, "footer")
        assert "<image href=" in text
        assert text.count('class="thread is-met"') >= 3

    def test_a_reader_without_the_link_is_named(self, house: Any) -> None:
        """With what their copy lacks, whoever the page is shown for."""
        SampleReader.objects.create(workspace=house.workspace, name="Tess", email="t@kiln.org", values={"first_name": "Tess"})
        html = GOOD_HTML.replace(
            '<a href="https://www.kiln.org/leave">', '{% if first_name == "Bo" %}<a href="https://www.kiln.org/leave">'
        ).replace("Unsubscribe</a>", "Unsubscribe</a>{% endif %}")
        revision = taken_in(house, mail(html))
        text = page(house, revision, "footer")
        assert re.search(r"A copy that lacks the way out goes to [^<]*Tess", text)
        assert any("Tess" in one and "no visible unsubscribe link" in one for one in sentences(revision))
        assert "met: “Unsubscribe”" in page(house, revision, "footer", "?reader=Bo")
