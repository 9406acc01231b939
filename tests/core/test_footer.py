"""What a footer says in ten languages, and the rulebooks that demand it, the house's own among them."""

from __future__ import annotations

from datetime import UTC, date, datetime
from typing import Any

import pytest

from jetwind.core.checking import (
    HOUSE_DEMANDS,
    Context,
    Kind,
    Outcome,
    UnusableRulebook,
    asking,
    house_rulebook,
    registry,
    rulebook_from_toml,
    rulebooks,
    run,
    run_check,
)
from jetwind.core.links.said import footer_of, names_of_sender
from jetwind.core.links.suggestions import suggestion
from jetwind.core.message import Message, Sample, read_bytes
from jetwind.engines.dictionaries import Installed
from tests.factories import mail
from tests.references import newsletters

#: The same footer in the ten languages: why, way out, choice, web, address, contact. Invented for this test.
FOOTERS = {
    "en": (
        "You are receiving this because you signed up at our open studio.",
        "Unsubscribe",
        "Update your preferences",
        "View in your browser",
        "Saltmarsh Kiln Works, 12 Kiln Quay, Saltmarsh SM4 7KW",
        "Contact us",
    ),
    "de": (
        "Sie erhalten diese E-Mail, weil Sie sich bei uns angemeldet haben.",
        "Newsletter abbestellen",
        "Einstellungen ändern",
        "Im Browser ansehen",
        "Töpferei am Deich, Hafenstraße 9, 26409 Wittmund",
        "Kontakt",
    ),
    "fr": (
        "Vous recevez cet e-mail car vous êtes inscrit à notre lettre.",
        "Se désinscrire",
        "Gérer vos préférences",
        "Voir dans le navigateur",
        "Atelier du Four, 7 rue du Four, 29000 Quimper",
        "Contactez-nous",
    ),
    "es": (
        "Recibe este correo porque se suscribió a nuestro boletín.",
        "Darse de baja",
        "Gestionar preferencias",
        "Ver en el navegador",
        "Taller del Horno, Calle Mayor 3, 28013 Madrid",
        "Contacto",
    ),
    "it": (
        "Ricevi questa email perché ti sei iscritto alla nostra newsletter.",
        "Annulla l'iscrizione",
        "Gestisci le preferenze",
        "Visualizza nel browser",
        "Bottega del Forno, Via dei Forni 12, 20121 Milano",
        "Contattaci",
    ),
    "nl": (
        "U ontvangt deze e-mail omdat u zich heeft ingeschreven.",
        "Uitschrijven",
        "Voorkeuren aanpassen",
        "Bekijk in je browser",
        "De Oven, Ovenstraat 12, 1012 AB Amsterdam",
        "Klantenservice",
    ),
    "pt": (
        "Recebeu este e-mail porque se inscreveu na nossa lista.",
        "Cancelar inscrição",
        "Gerir preferências",
        "Ver no navegador",
        "Oficina do Forno, Rua do Forno 12, 1200-123 Lisboa",
        "Contacto",
    ),
    "pl": (
        "Otrzymujesz tę wiadomość, ponieważ zapisałeś się na naszą listę.",
        "Wypisz się",
        "Zmień ustawienia",
        "Zobacz w przeglądarce",
        "Pracownia Piec, ul. Piecowa 12, 00-123 Warszawa",
        "Kontakt",
    ),
    "ru": (
        "Вы получили это письмо, потому что вы подписались на рассылку.",
        "Отписаться",
        "Настройки рассылки",
        "Открыть в браузере",
        "Мастерская «Печь», ул. Печная, д. 12, 123456 Москва",
        "Контакты",
    ),
    "sv": (
        "Du får detta mejl eftersom du har anmält dig hos oss.",
        "Avsluta prenumerationen",
        "Ändra inställningar",
        "Visa i webbläsaren",
        "Ugnen, Ugnsgatan 12, 123 45 Stockholm",
        "Kontakta oss",
    ),
}


def footer_html(language: str, without: str = "") -> str:
    """A message with the footer of a language, one of its pieces left out."""
    why, out, choice, web, address, contact = FOOTERS[language]
    pieces = {
        "view": f"<p><a href='https://k.org/w/7'>{web}</a></p>",
        "body": "<h1>12 × 4</h1>",
        "reason": f"<p>{why}</p>",
        "address": f"<p>{address}</p>",
        "unsubscribe": f"<p><a href='https://k.org/x/9f3'>{out}</a></p>",
        "preferences": f"<p><a href='https://k.org/y/9f3'>{choice}</a></p>",
        "contact": f"<p><a href='https://k.org/z'>{contact}</a></p>",
    }
    return f"<html lang='{language}'><body>" + "".join(piece for name, piece in pieces.items() if name != without) + "</body></html>"


def html(source: str) -> Message:
    """A message of HTML alone."""
    return read_bytes(b"\xef\xbb\xbf" + source.encode(), "a.html")


def answer(check_id: str, message: Message, kind: Kind = Kind.NEWSLETTER, **more: Any) -> list[str]:
    """The sentences of a check."""
    return [one.message for one in run_check(registry()[check_id], message, Context(kind, **more)).findings]


class TestRecognition:
    """By words and by structure, in every language."""

    @pytest.mark.parametrize("language", FOOTERS)
    @pytest.mark.parametrize("demand", ["unsubscribe", "address", "reason", "preferences", "view", "contact"])
    def test_each_piece_is_found_and_missed(self, language: str, demand: Any) -> None:
        """There, with its words and its place; and not where it was left out."""
        message = html(footer_html(language))
        said = footer_of(message).said(demand)
        assert said is not None
        assert said.words
        assert said.span is not None
        assert message.html is not None
        assert 0 <= said.span.start < said.span.end <= len(message.html.text)
        assert footer_of(html(footer_html(language, demand))).said(demand) is None

    @pytest.mark.parametrize("language", FOOTERS)
    def test_the_same_in_plain_text(self, language: str) -> None:
        """Each address with its words before it."""
        why, out, choice, web, address, _ = FOOTERS[language]
        text = f"12 x 4\n\n{web}: https://k.org/w/7\n\n{why}\n\n{address}\n\n{out}: https://k.org/x/9f3\n\n{choice}: https://k.org/y/9f3\n"
        footer = footer_of(read_bytes(mail(None, text), "a.eml"))
        for demand in ("unsubscribe", "address", "reason", "preferences", "view"):
            said = footer.said(demand)
            assert said is not None, demand
            assert said.span is not None
            assert text[said.span.start : said.span.end].strip()

    @pytest.mark.parametrize("language", FOOTERS)
    def test_suggestions_are_what_would_be_recognised(self, language: str) -> None:
        """In the message's own language; put in, they meet the demand."""
        lines = {
            demand: suggestion(html(f"<html lang='{language}'><p>12</p></html>"), demand)
            for demand in ("unsubscribe", "reason", "preferences")
        }
        put_in = html(
            f"<html lang='{language}'><p>{lines['reason']}</p><a href='https://k.org/1'>{lines['unsubscribe']}</a><a href='https://k.org/2'>{lines['preferences']}</a></html>"
        )
        for demand in ("unsubscribe", "reason", "preferences"):
            assert footer_of(put_in).said(demand) is not None, (demand, lines[demand])

    def test_words_of_pictures_count(self) -> None:
        """A footer in pictures with their words as alternative text."""
        message = html(
            "<img src='a.png' alt='Saltmarsh Kiln Works, 12 Kiln Quay, Saltmarsh SM4 7KW'><a href='https://k.org/x'><img src='b.png' alt='Unsubscribe'></a><img src='c.png' alt='You get this because you signed up'>"
        )
        assert all(footer_of(message).said(demand) for demand in ("address", "unsubscribe", "reason"))

    @pytest.mark.parametrize(
        ("sender", "copy", "is_named"),
        [
            ("Saltmarsh Kiln Works <a@mail.kiln-quay.org>", "<p>saltmarsh kiln works</p>", True),
            ("The team at Saltmarsh <a@b.org>", "<p>Saltmarsh</p>", True),
            ("News <a@kiln-quay.org>", "<p>Kiln Quay</p>", True),
            ("News <a@kiln-quay.org>", "<p>News of the week</p>", False),
            ("Kiln <a@b.org>", "<p>© 2027 Harbour Pots Ltd</p>", True),
            ("Kiln <a@b.org>", "<p>Twelve glazes</p>", False),
        ],
    )
    def test_who_sends_it(self, sender: str, copy: str, is_named: bool) -> None:
        """By the display name, a telling word of it, the domain, or a copyright."""
        message = read_bytes(mail(copy, None, From=sender), "a.eml")
        assert (footer_of(message).said("identity") is not None) is is_named
        assert names_of_sender(message)

    def test_readers_who_lack_it_are_named(self) -> None:
        """In whose copy there is no way out."""
        from jetwind.core.message import Sample

        source = "<p>Hello</p>{% if member %}<a href='https://k.org/u'>Unsubscribe</a>{% endif %}"
        readers = (Sample("Maeve", {"member": "yes"}), Sample("Bo", {}), Sample("Tess", {}))
        assert answer("footer.unsubscribe-conditional", html(source), readers=readers) == [
            "The copy of Bo, Tess has no visible unsubscribe link."
        ]


class TestOneFaultOnce:
    """What is missing is told at one check."""

    @pytest.mark.parametrize(
        ("raw", "told"),
        [
            (mail("<p>Sale</p>", None), {"footer.unsubscribe-missing"}),
            (mail(None, "Sale\n"), {"text.unsubscribe-missing"}),
            (mail("<p>Sale</p>", "Sale\n"), {"footer.unsubscribe-missing"}),
            (mail("<p>Sale</p><a href='https://k.org/u'>Unsubscribe</a>", "Sale\n"), {"text.unsubscribe-missing"}),
            (
                mail("<p>Sale</p><div style='display:none'><a href='https://k.org/u'>Unsubscribe</a></div>", None),
                {"footer.unsubscribe-hidden"},
            ),
            (mail("<p>Sale</p><a href='https://www.kiln.org/'>Unsubscribe</a>", None), {"footer.unsubscribe-target"}),
            (mail("<p>To unsubscribe, <a href='https://k.org/p'>click here</a></p>", None), {"footer.unsubscribe-words"}),
            (mail("<a href='#'>Unsubscribe</a>", None), set()),
        ],
    )
    def test_the_way_out(self, raw: bytes, told: set[str]) -> None:
        """Missing, hidden, to the home page, without words: each once."""
        message = read_bytes(raw, "a.eml")
        ids = [one for one in registry() if "unsubscribe" in one and one not in ("footer.list-unsubscribe",)]
        assert {one for one in ids if answer(one, message, Kind.PROMOTIONAL)} == told


class TestNoFooter:
    """A footer that is not there is one finding with all that it would hold."""

    SALE = mail("<p>Twelve glazes are a fifth off.</p>", None, From="Saltmarsh Kiln Works <hello@kiln.org>")
    ASKED = frozenset({"footer.unsubscribe-missing", "footer.address-missing", "footer.reason-missing", "footer.preferences-missing"})

    def told(self, raw: bytes, context: Context | None = None, only: frozenset[str] = ASKED) -> dict[str, str]:
        """What these checks find, asked together."""
        return {one.check: one.message for answer in run(read_bytes(raw, "a.eml"), context or Context(), only) for one in answer.findings}

    def test_one_finding(self) -> None:
        """A stop that names the way out, the address and the reason; a newsletter's lacks the page of choices, too."""
        said = "The message has no footer: it lacks a way out, a postal address and a reason for getting it."
        assert self.told(self.SALE) == {"footer.unsubscribe-missing": said}
        (words,) = self.told(self.SALE, Context(kind=Kind.NEWSLETTER)).values()
        assert words.endswith(" a postal address, a reason for getting it and a page of choices.")

    def test_a_check_that_is_asked_alone_tells(self) -> None:
        """By itself it says what it misses; with the first switched off, or not asked by a chosen law, the second tells of both."""
        one = frozenset({"footer.address-missing"})
        assert self.told(self.SALE, only=one) == {"footer.address-missing": "The message shows no postal address."}
        off = Context(settings={"footer.unsubscribe-missing": {"level": "off"}})
        assert list(self.told(self.SALE, off)) == ["footer.address-missing"]
        assert self.told(self.SALE, Context(kind=Kind.TRANSACTIONAL)) == {}

    def test_a_footer_that_only_some_readers_get(self) -> None:
        """What the others lack is told of their copies."""
        foot = "<p>12 Kiln Quay, Saltmarsh SM4 7KW. <a href='https://k.org/u'>Unsubscribe</a></p>"
        html = f"<p>Twelve glazes.</p>{{% if member %}}{foot}{{% endif %}}"
        readers = (Sample("Tove", {"member": "yes"}), Sample("Bo", {}))
        assert "footer.address-missing" in self.told(mail(html, None), Context(readers=readers))

    @pytest.mark.parametrize(
        "kept",
        [
            "12 Kiln Quay, Saltmarsh SM4 7KW",
            "You get this because you signed up at our studio.",
            '<a href="#">Unsubscribe</a>',
            '<span style="display:none"><a href="https://k.org/u">Unsubscribe</a></span>',
        ],
    )
    def test_a_footer_that_lacks_something_is_told_piece_by_piece(self, kept: str) -> None:
        """Whatever it has, the rest is missed by its own check."""
        found = self.told(mail(f"<p>Twelve glazes are a fifth off.</p><p>{kept}</p>", None))
        assert not [words for words in found.values() if "no footer" in words]
        assert {"footer.address-missing", "footer.reason-missing"} & set(found)


class TestRulebooks:
    """Laws as data, and a house's own."""

    def test_every_demand_has_a_source_and_a_check(self) -> None:
        """All that ship, and what a house may tick."""
        for book in rulebooks().values():
            assert book.demands
            for demand in book.demands:
                assert demand.check in registry()
                assert demand.source
                assert demand.says[0].isupper()
        assert set(HOUSE_DEMANDS) <= set(registry())
        assert {demand.check for book in rulebooks().values() for demand in book.demands} >= {
            "footer.unsubscribe-missing",
            "footer.address-missing",
            "footer.identity-missing",
            "footer.one-click",
            "text.unsubscribe-missing",
        }

    def test_who_asks_for_what(self) -> None:
        """By id; with none chosen, all that ship; and the house's own beside them."""
        house = house_rulebook("Quay", ["footer.reason-missing", "footer.address-missing"])
        assert [book.id for book, _ in asking("footer.address-missing", (), (house,))] == ["united-states", "canada", "house"]
        assert [book.id for book, _ in asking("footer.address-missing", {"canada"}, ())] == ["canada"]
        assert [demand.source for _, demand in asking("footer.reason-missing", (), (house,))] == ["house: Quay"]

    @pytest.mark.parametrize(
        ("kind", "countries", "on", "holds"),
        [
            ("newsletter", ("NL",), date(2027, 3, 1), True),
            ("newsletter", (), date(2027, 3, 1), True),
            ("newsletter", ("nl", "us"), date(2027, 3, 1), True),
            ("newsletter", ("US",), date(2027, 3, 1), False),
            ("promotional", ("NL",), date(2027, 3, 1), False),
            ("newsletter", ("NL",), date(2026, 12, 31), False),
            ("newsletter", ("NL",), date(2028, 1, 1), False),
            ("newsletter", ("NL",), None, True),
        ],
    )
    def test_for_whom_and_when_it_holds(self, kind: str, countries: tuple[str, ...], on: date | None, holds: bool) -> None:
        """Kind of message, audience, day."""
        book = house_rulebook(
            "Quay",
            ["footer.reason-missing"],
            words=(),
            kinds=["newsletter"],
            countries=["NL", "de"],
            since=date(2027, 1, 1),
            until=date(2027, 12, 31),
        )
        assert book.holds(kind, countries, on) is holds

    def test_a_house_may_ask_of_a_receipt(self) -> None:
        """What laws ask of bulk mail alone, a house asks of any kind that its rulebook holds for."""
        message = html("<p>Your receipt for two bowls.</p>")
        book = house_rulebook("Receipts", ["footer.address-missing", "footer.reason-missing"], (), ["transactional"])
        assert answer("footer.address-missing", message, Kind.TRANSACTIONAL) == []
        assert answer("footer.address-missing", message, Kind.TRANSACTIONAL, house=(book,)) == ["The message shows no postal address."]
        assert answer("footer.preferences-missing", message, Kind.TRANSACTIONAL, house=(book,)) == []

    def test_a_house_asks_where_no_chosen_law_does(self) -> None:
        """The European Union asks for no address; the house does."""
        message = html("<p>Sale</p>")
        chosen = frozenset({"european-union"})
        spared = run_check(registry()["footer.address-missing"], message, Context(rulebooks=chosen))
        assert (spared.outcome, spared.reason) == (Outcome.DOES_NOT_APPLY, "no chosen rulebook asks for it")
        assert spared.used >= {"rulebooks", "house"}
        book = house_rulebook("Quay", ["footer.address-missing"])
        assert answer("footer.address-missing", message, rulebooks=chosen, house=(book,))

    def test_in_a_file(self) -> None:
        """TOML with dates."""
        book = rulebook_from_toml(
            'name = "Quay"\ndemands = ["footer.reason-missing"]\nwords = ["Fired by hand"]\nkinds = ["newsletter"]\ncountries = ["NL"]\nsince = 2027-01-01\n'
        )
        told: tuple[object, ...] = (book.name, book.words, book.since, book.checks)
        assert told == (
            "Quay",
            ("Fired by hand",),
            date(2027, 1, 1),
            {"footer.reason-missing", "footer.house-words"},
        )

    @pytest.mark.parametrize(
        ("text", "said"),
        [
            ("name = ", "it is no TOML"),
            ('name = "x"', "it demands nothing"),
            ('demands = ["footer.reason-missing"]', "needs a name"),
            ('name = "x"\ndemands = ["links.empty"]', "there is no demand 'links.empty'"),
            ('name = "x"\nwords = ["a"]\nkinds = ["letter"]', "there is no kind 'letter'"),
            ('name = "x"\nwords = ["a"]\ncountries = ["Holland"]', "no country code"),
            ('name = "x"\nwords = ["a"]\nsince = 2027-02-01\nuntil = 2027-01-01', "ends before it begins"),
            ('name = "x"\nwords = "a"', "'words' is a list of texts"),
            ('name = "x"\nwords = ["a"]\ncolour = "red"', "there is no entry 'colour'"),
        ],
    )
    def test_unusable_files(self, text: str, said: str) -> None:
        """The entry is named."""
        with pytest.raises(UnusableRulebook, match=said):
            rulebook_from_toml(text)


class TestLettersOfTheDemo:
    """The demo's course letter in four languages more: one in order, three with a fault in their footer."""

    FAULTS: tuple[tuple[str, dict[str, str]], ...] = (
        ("de", {}),
        ("fr", {"footer.address-missing": "The message shows no postal address."}),
        ("es", {"footer.reason-missing": "Nothing says why the reader gets this message."}),
        ("nl", {"footer.unsubscribe-words": "The link by which a reader unsubscribes says “hier”."}),
    )

    @pytest.mark.parametrize(("language", "faults"), FAULTS)
    def test_only_the_fault_that_was_put_in(self, language: str, faults: dict[str, str]) -> None:
        """Of all checks that need no browser; but for the link that says nothing, which is told as such, too."""
        from jetwind.apps.demo import messages

        message = read_bytes(messages.letters_abroad()[language].raw, "a.eml")
        leaves = datetime(2027, 2, 18, 9, tzinfo=UTC)
        context = Context(
            Kind.NEWSLETTER, planned=leaves, now=leaves, dictionaries=Installed(), practice_domains=frozenset({"saltmarsh-kiln.example"})
        )
        found = {one.check: one.message for result in run(message, context) for one in result.findings if one.check != "links.text-vague"}
        assert found == faults
        for demand in ("unsubscribe", "preferences", "identity"):
            assert footer_of(message).said(demand) is not None


class TestRealFooters:
    """118 newsletters of 2002 (tests/references.py), judged by reading their ends; counts, no texts."""

    #: How many lack each. Of 59 that were read from end to end, nobody is told of wrongly; one “80GB ATA/100 5400RPM IDE” is taken for an
    #: address. Those without a way out are single letters, press releases and two that ask for mail to an address given as words.
    LACKING = {"unsubscribe": 12, "address": 108, "identity": 5, "reason": 41, "preferences": 47, "contact": 14}

    def test_counts(self) -> None:
        """What was counted when they were read."""
        found = dict.fromkeys(self.LACKING, 0)
        for name, raw in newsletters():
            footer = footer_of(read_bytes(raw, f"{name}.eml"))
            for demand in found:
                found[demand] += footer.said(demand) is None  # type: ignore[arg-type]
        assert found == self.LACKING

    @pytest.mark.parametrize("language", FOOTERS)
    def test_a_footer_put_into_real_newsletters(self, language: str) -> None:
        """What the newsletter lacked before is found in every language, at the place where it was put."""
        seen = 0
        for name, raw in newsletters()[:60]:
            message = read_bytes(raw, f"{name}.eml")
            if message.html is None or message.document is None or message.document.body.start_tag is None:
                continue
            inner = footer_html(language).split("<body>")[1].split("</body>")[0]
            at = message.document.body.start_tag.end
            whole = html(message.html.text[:at] + inner + message.html.text[at:])
            for demand in ("unsubscribe", "address", "reason", "preferences"):
                said = footer_of(whole).said(demand)
                assert said is not None, (name, demand)
                if footer_of(message).said(demand) is None:
                    assert said.span is not None
                    assert at <= said.span.start < at + len(inner), (name, demand, said.words)
            seen += 1
            if seen == 4:
                break
        assert seen == 4

    @pytest.mark.parametrize(
        ("link", "told"),
        [
            ("<a href='https://k.org/u' style='font-size:5px'>Unsubscribe</a>", "its type is 5 px"),
            (
                "<div style='background:#ffffff'><a href='https://k.org/u' style='color:#fcfcfc'>Unsubscribe</a></div>",
                "its contrast is 1.0",
            ),
            ("<div style='display:none'><a href='https://k.org/u'>Unsubscribe</a></div>", "no reader sees it"),
            (
                "<a href='https://k.org/unsubscribe'><img src='https://k.org/u.png' width='120' height='20' alt='Unsubscribe'></a>",
                "it is only in a picture",
            ),
        ],
    )
    def test_a_way_out_that_is_hard_to_see(self, link: str, told: str) -> None:
        """Put into newsletters that had none."""
        seen = 0
        for name, raw in newsletters():
            message = read_bytes(raw, f"{name}.eml")
            body = message.document.body.start_tag if message.document is not None else None
            if (
                message.html is None
                or body is None
                or footer_of(message).said("unsubscribe") is not None
                or answer("footer.unsubscribe-hidden", message)
            ):
                continue
            whole = html(message.html.text[: body.end] + link + message.html.text[body.end :])
            assert [told in sentence for sentence in answer("footer.unsubscribe-hidden", whole)] == [True], name
            assert answer("footer.unsubscribe-missing", whole) == []
            seen += 1
        assert seen >= 2
