"""Messages in all profiles in a real Chromium: golden facts, real newsletters, which losses show, and hostile pages."""

from __future__ import annotations

import json
import os
from collections import Counter
from collections.abc import Iterator
from functools import partial
from pathlib import Path
from typing import Any

import pytest

from jetwind.apps.demo import messages
from jetwind.core.checking import Context, run
from jetwind.core.message import Message, read_bytes
from jetwind.core.profiles import profiles, rewrite, usual
from jetwind.core.renders import Renders
from jetwind.core.renders.departure import departure
from jetwind.engines.browser import Browser, Capture, CaptureFailed, CaptureRequest, losses_shown, references, survey
from tests.factories import package, picture
from tests.references import newsletters

GOLDEN = Path(__file__).parent / "golden.json"
#: px by which a box may differ: another version of a font or of the browser rounds otherwise.
ROUNDING = 4


@pytest.fixture(scope="module")
def browser() -> Iterator[Browser]:
    """One browser for all tests here."""
    made = Browser(patience_ms=5000)
    yield made
    made.close()


def page(html: str, **files: bytes) -> Message:
    """A message of HTML and its pictures."""
    return read_bytes(package(html, **files), "x.zip")


def surveyed(message: Message, browser: Browser, *ids: str) -> Renders:
    """What is measured of a message in some profiles, or in the usual ones."""
    chosen = [profiles()[name] for name in ids or usual()]
    return survey(
        partial(rewrite, message), {one.id: (one, rewrite(message, one)) for one in chosen}, browser, "none", lambda name, capture: True
    )


def found(message: Message, renders: Renders, *checks: str) -> dict[str, Any]:
    """The findings of some checks, the first of each."""
    return {one.check: one.findings[0] for one in run(message, Context(renders=renders), checks) if one.findings}


def facts(message: Message, browser: Browser) -> dict[str, Any]:
    """Sizes, dropped features, and boxes of links and pictures in three profiles."""
    told: dict[str, Any] = {}
    for name in ("desktop-pane", "word-processor", "phone-upright"):
        profile = profiles()[name]
        rewritten = rewrite(message, profile)
        measured = browser.capture(CaptureRequest.of(rewritten, profile, "none")).measured
        told[name] = {
            "size": [measured.width, measured.height, measured.content_width],
            "characters": measured.characters,
            "dropped": dict(sorted(Counter(change.feature for change in rewritten.dropped).items())),
            "boxes": [[one.kind, one.element, one.x, one.y, one.width, one.height] for one in measured.of("link", "image")],
        }
    return told


@pytest.mark.parametrize("name", ["clean_sale", "faulty_weekend", "pick_up_notice"])
def test_golden_facts(name: str, browser: Browser) -> None:
    """As looked at and found right on 2026-11-25, within the rounding of fonts. JETWIND_GOLDEN=1 writes them anew."""
    message = read_bytes(getattr(messages, name)(), "x.eml")
    measured = facts(message, browser)
    golden = json.loads(GOLDEN.read_text("utf-8")) if GOLDEN.exists() else {}
    if os.environ.get("JETWIND_GOLDEN"):
        GOLDEN.write_text(json.dumps({**golden, name: measured}, separators=(",", ":")), "utf-8")
        return
    for profile, expected in golden[name].items():
        got = measured[profile]
        assert got["dropped"] == expected["dropped"]
        assert got["characters"] == expected["characters"]
        assert got["size"] == pytest.approx(expected["size"], abs=ROUNDING)
        assert [box[:2] for box in got["boxes"]] == [box[:2] for box in expected["boxes"]]
        for one, other in zip(got["boxes"], expected["boxes"], strict=True):
            assert one[2:] == pytest.approx(other[2:], abs=ROUNDING), (profile, one)


def test_ten_real_messages_in_all_profiles(browser: Browser) -> None:
    """No failure, something to see in each, and no check over renders that crashes."""
    tried = 0
    readable = [(name, read_bytes(data, name)) for name, data in newsletters()[3::8]]
    for name, message in [(name, message) for name, message in readable if message.html is not None][:10]:
        chosen = list(profiles().values())
        pages = {profile.id: rewrite(message, profile) for profile in chosen}
        answers: dict[int, Capture | Exception] = {}
        browser.capture_all(
            [CaptureRequest.of(pages[profile.id], profile) for profile in chosen],
            lambda number, capture, answers=answers: answers.update({number: capture}) is None,
        )
        for number, profile in enumerate(chosen):
            answer = answers[number]
            assert isinstance(answer, Capture), (name, profile.id, answer)
            assert answer.image
            assert answer.measured.characters > 100, (name, profile.id)
            tried += 1
    assert tried == 10 * len(profiles())


def test_every_check_over_renders_answers_on_real_messages(browser: Browser) -> None:
    """None crashes; the losses are told with places in the source."""
    for name, data in newsletters()[5::30][:3]:
        message = read_bytes(data, name)
        renders = surveyed(message, browser, "desktop-pane", "word-processor", "phone-upright", "pane-blocked", "desktop-night")
        assert not renders.failed
        for answer in run(message, Context(renders=renders)):
            assert answer.outcome.value != "crashed", answer
        assert renders.shown is not None
        assert message.html is not None
        for shown in renders.shown:
            assert all(message.html.text[span.start : span.end].strip() for span in shown.spans), shown


class TestPicturesThatAreNotThere:
    """A picture that lies elsewhere and was not fetched keeps the space that the message declares for it, else a stated box."""

    @pytest.mark.parametrize(
        ("attributes", "width", "height"),
        [
            ('width="300" height="150" alt=""', 300, 150),
            ('width="300" height="150" alt="Four bowls"', 300, 150),
            ('style="width:240px;height:60px" alt=""', 240, 60),
            ('width="600" height="300" style="width:50%;height:auto" alt=""', 280, 140),
            ('style="width:100%" alt="Four bowls"', 560, 280),
            ('width="320" alt=""', 320, 160),
            ('height="80" alt="Four bowls"', 160, 80),
            ('alt="Four bowls"', 200, 100),
            ("", 200, 100),
            ('class="wide" alt=""', 400, 200),
        ],
    )
    def test_its_space(self, browser: Browser, attributes: str, width: int, height: int) -> None:
        """As many px as the picture itself would take, or as a box of twice its height's width."""
        html = f'<!doctype html><style>.wide {{ width: 400px }}</style><div style="width:560px"><img src="https://kiln.example/a.png" {attributes}></div><p>x</p>'
        message = read_bytes(html.encode(), "x.html")
        profile = profiles()["desktop-pane"]
        measured = browser.capture(CaptureRequest.of(rewrite(message, profile), profile, "none")).measured
        (image,) = measured.of("image")
        assert (round(image.width), round(image.height)) == (width, height)
        below = next(block for block in measured.of("text") if block.y >= image.bottom - ROUNDING)
        assert below.y >= image.y + height

    def test_what_is_counted_has_no_space(self, browser: Browser) -> None:
        """A picture of one px, and one that the client does not load, are as they were."""
        message = read_bytes(b'<!doctype html><img src="https://kiln.example/a.gif" width="1" height="1" alt=""><p>x</p>', "x.html")
        for name in ("desktop-pane", "pane-blocked"):
            assert "data-jetwind-lacking" not in rewrite(message, profiles()[name]).html.partition("</style>")[2]


class TestLosses:
    """Only a loss that shows is told."""

    BASE = "<!doctype html><html lang=en><head><meta charset=utf-8><title>t</title></head><body style='margin:0'>"

    @pytest.mark.parametrize(
        ("html", "feature", "effect"),
        [
            (
                "<div style='display:flex'><div style='width:200px'>one</div><div style='width:200px'>two</div></div>",
                "css-display",
                "layout",
            ),
            ("<p style='padding:40px'>words in a box</p>", "css-padding", "layout"),
            ("<table><tr><td style='background:#ddd;border-radius:9px'>words</td></tr></table>", "css-border-radius", "look"),
            ("<div style='width:200px'>a line of words that must wrap somewhere in a narrow box and go on</div>", "css-width", "layout"),
        ],
    )
    def test_shown_in_the_word_processor(self, browser: Browser, html: str, feature: str, effect: str) -> None:
        """Feature, effect, profile and place."""
        renders = surveyed(page(self.BASE + html), browser, "desktop-pane", "word-processor")
        assert renders.shown is not None
        told = {one.feature: one for one in renders.shown}
        assert told[feature].effect == effect
        assert told[feature].profiles == ("word-processor",)

    @pytest.mark.parametrize(
        "html",
        [
            # Nothing to wrap, nothing to round, nothing that the loss would move.
            "<table width=600 cellpadding=0 cellspacing=0 border=0><tr><td style='max-width:600px'>words</td></tr></table>",
            # A ghost table holds the width where max-width is lost.
            "<!--[if mso]><table width=400 cellpadding=0 cellspacing=0 border=0><tr><td><![endif]--><div style='max-width:400px'>a line of words that wraps at four hundred px whoever reads it, with a ghost table or without one</div><!--[if mso]></td></tr></table><![endif]-->",
            # A drawn button for one engine, a styled link for all others.
            "<!--[if mso]><v:roundrect href='https://k.org' style='height:40px;width:200px' arcsize='10%' fillcolor='#b00'><center>Buy</center></v:roundrect><![endif]--><!--[if !mso]><!--><a href='https://k.org' style='background:#b00;border-radius:4px;padding:12px 40px;display:inline-block'>Buy</a><!--<![endif]-->",
            # A margin that centres is lost; the table inside, which is as wide as the div then is, has an align of its own.
            "<div style='max-width:400px;margin:0 auto'><!--[if mso]><table align=center width=400><tr><td><![endif]--><p style='margin:0'>words in the middle of the page, and some more of them</p><!--[if mso]></td></tr></table><![endif]--></div>",
            "<table align=center width=300 style='margin:auto'><tr><td>words</td></tr></table>",
            # A picture that lies elsewhere is laid out by what its markup declares.
            "<img src='https://pictures.example/a.png' width=600 height=200 alt='Words that stand for it' style='display:block'>",
            # A hover colour and a transition change no picture that stands still.
            "<style>a:hover { color: red } a { transition: color 1s }</style><a href='https://k.org'>x</a>",
        ],
    )
    def test_not_told(self, browser: Browser, html: str) -> None:
        """Messages that must not trigger it."""
        renders = surveyed(page(self.BASE + html), browser, "desktop-pane", "word-processor", "webmail-prefix", "webmail-columns")
        assert renders.shown is not None
        assert [one.feature for one in renders.shown if one.effect == "layout"] == []

    def test_media_queries_that_a_phone_drops(self, browser: Browser) -> None:
        """Columns that would stack stay beside each other: the style element is what is lost, and the client shrinks the message."""
        html = self.BASE.replace(
            "</head>",
            "<style>@media (max-width:600px) { .t { width:100% !important } .c { display:block !important; width:auto !important } }</style></head>",
        )
        html += "<table class=t width=600><tr><td class=c width=300>words of one column</td><td class=c width=300>words of the other column</td></tr></table>"
        message = page(html)
        renders = surveyed(message, browser, "phone-upright", "phone-guest")
        assert renders.shown is not None
        assert {one.feature: one.profiles for one in renders.shown}["html-style"] == ("phone-guest",)
        assert {name: render.measured.scale < 1 for name, render in renders.renders.items()} == {
            "phone-upright": False,
            "phone-guest": True,
        }
        told = found(message, renders, "appearance.sideways", "appearance.html-unsupported")
        assert "appearance.sideways" not in told  # a mail program shrinks it to fit
        assert "“Phone app, mailbox of another provider”" in told["appearance.html-unsupported"].message

    def test_losses_that_show_only_together(self, browser: Browser) -> None:
        """A client that drops class selectors and media queries: keeping one of them changes nothing, and yet something is lost."""
        html = self.BASE.replace("</head>", "<style>.c { width: 180px; background: #ddd } #d { width: 180px }</style></head>")
        html += "<div class=c id=d>a line of words that wraps at a hundred and eighty px and not before</div>"
        renders = surveyed(page(html), browser, "desktop-pane", "webmail-blocked")
        assert renders.shown is not None
        assert {one.feature for one in renders.shown} & {"css-selector-class", "css-selector-id"}

    def test_a_professional_message_of_today(self, browser: Browser) -> None:
        """Ghost tables, hidden lead-in, media queries, dark colours: one fault that is one, and two notes about looks."""
        message = read_bytes((Path(__file__).parent / "modern.html").read_bytes(), "modern.html")
        results = run(message, Context(renders=surveyed(message, browser)))
        told = [one for result in results for one in result.findings if one.check.startswith(("appearance.", "access."))]
        assert sorted((one.level.value, one.check) for one in told) == [
            ("fix", "access.contrast-dark"),
            ("note", "appearance.css-unsupported"),
            ("note", "appearance.css-unsupported"),
        ]

    def test_a_clean_message_has_nothing(self, browser: Browser) -> None:
        """The demo's clean ones, in every usual profile."""
        for made in (messages.clean_sale, messages.pick_up_notice):
            message = read_bytes(made(), "x.eml")
            renders = surveyed(message, browser)
            results = run(message, Context(renders=renders))
            told = [one for result in results for one in result.findings if one.check.startswith(("appearance.", "access."))]
            assert told == [], [(one.message, one.data) for one in told]


class TestMeasuredChecks:
    """A fault in a real page, and its neighbour that is none."""

    @pytest.mark.parametrize(
        ("check", "faulty", "clean"),
        [
            ("appearance.sideways", "<table width=640><td>x</table>", "<table width='100%' style='max-width:640px'><td>x</table>"),
            ("appearance.blank", "<div style='display:none'>hidden</div>", "<p>Something</p>"),
            ("appearance.images-off-empty", "<img src=a.png width=600 height=700><p>late words</p>", "<img src=a.png width=600 height=700 alt='Spring sale at the kiln'><p>late</p>"),
            ("appearance.action-below", "<div style='height:900px'>x</div><a href='https://k.org' style='background:#b00;padding:9px;display:block'>Buy</a>", "<a href='https://k.org' style='background:#b00;padding:9px;display:block'>Buy</a>"),
            ("appearance.dark-lost", "<img src=dark.png width=200 height=100 alt=Logo><style>@media (prefers-color-scheme:dark){body{background:#111}}</style>", "<img src=light.png width=200 height=100 alt=Logo><style>@media (prefers-color-scheme:dark){body{background:#111}}</style>"),
            ("appearance.no-stack", "<table width='100%'><tr>" + f"<td width='25%'>{'words of a column ' * 6}</td>" * 4 + "</tr></table>", "<table width='100%'><tr><td style='display:block'>" + "long words of a column " * 6 + "</td><td style='display:block'>other words</td></tr></table>"),
            ("access.contrast", "<p style='color:#999'>Words to read</p>", "<p style='color:#555'>Words to read</p>"),
            ("access.contrast-dark", "<p style='color:#666;background:none'>Words</p><style>@media (prefers-color-scheme:dark){body{background:#222}}</style>", "<p>Words</p><style>@media (prefers-color-scheme:dark){body{background:#222;color:#eee}}</style>"),
            ("access.alt-unreadable", "<table bgcolor='#dddddd'><td><img src=a.png width=300 height=90 alt='Spring sale' style='color:#ffffff'></table>", "<table bgcolor='#333333'><td><img src=a.png width=300 height=90 alt='Spring sale' style='color:#ffffff'></table>"),
            ("access.text-small", "<p style='font-size:10px'>" + "Small words of body copy. " * 4 + "</p>", "<p style='font-size:15px'>" + "Words of body copy. " * 4 + "</p><p style='font-size:11px'>Kiln Works, 12 Kiln Quay, Saltmarsh, and a little more</p>"),
            ("access.tap-small", "<a href='https://k.org/a' style='font-size:10px'>a</a><br><a href='https://k.org/b' style='font-size:10px'>b</a>", "<p>In a sentence <a href='https://k.org/a'>a</a> and <a href='https://k.org/b'>b</a> are fine.</p>"),
            ("access.link-colour-only", "<p style='color:#333'>Words and <a href='https://k.org' style='color:#1f3f6b;text-decoration:none'>a link</a> here</p>", "<p style='color:#333'>Words and <a href='https://k.org' style='color:#1f3f6b'>a link</a> here</p>"),
        ],
    )  # fmt: skip
    def test_fault_and_neighbour(self, browser: Browser, check: str, faulty: str, clean: str) -> None:
        """Told of one, not of the other."""
        ids = ("desktop-pane", "desktop-night", "pane-blocked", "phone-upright", "phone-webmail")
        files = {"a_dot_png": picture(600, 300), "dark_dot_png": drawn((17, 17, 17)), "light_dot_png": drawn((240, 240, 240))}
        for html, wanted in ((faulty, [check]), (clean, [])):
            message = page(f"<!doctype html><html lang=en><body>{html}", **files)
            assert list(found(message, surveyed(message, browser, *ids), check)) == wanted


def drawn(colour: tuple[int, int, int]) -> bytes:
    """A drawing of one colour on nothing."""
    import io

    from PIL import Image

    canvas = Image.new("RGBA", (200, 100), (0, 0, 0, 0))
    canvas.paste((*colour, 255), (40, 30, 160, 70))
    out = io.BytesIO()
    canvas.save(out, "PNG")
    return out.getvalue()


class TestDeparture:
    """The odd one out."""

    def test_the_profile_that_breaks_departs_most(self, browser: Browser) -> None:
        """A flex row is lost in one profile only; all others lie where the reference lies."""
        message = page(
            "<!doctype html><body style='margin:0'><div style='display:flex'>"
            + "<div style='width:180px'>words in a column</div>" * 3
            + "</div>"
        )
        chosen = [profiles()[name] for name in ("desktop-pane", "word-processor", "webmail-prefix", "phone-app")]
        renders = surveyed(message, browser, *(one.id for one in chosen))
        base = references(partial(rewrite, message), chosen, browser)
        scores = {name: departure(base[name], render.measured).score for name, render in renders.renders.items()}
        assert max(scores, key=lambda name: scores[name]) == "word-processor"
        assert scores["desktop-pane"] == scores["webmail-prefix"] == 0


class TestHostile:
    """Bounded and reported."""

    @pytest.mark.parametrize(
        "html",
        [
            '<div style="columns:2;column-fill:balance">' * 14 + "x " * 500,
            '<div style="filter:blur(50px);transform:rotate(1deg)">' * 60 + "x " * 3000,
        ],
        ids=["columns in columns", "filters over filters"],
    )
    def test_a_page_that_never_stops_laying_out(self, browser: Browser, html: str) -> None:
        """A sentence that says so, and the next page is rendered."""
        with pytest.raises(CaptureFailed, match="did not lay out in time"):
            browser.capture(CaptureRequest(html, {}, 600, 600))
        assert browser.capture(CaptureRequest("<p>next", {}, 600, 600)).image

    def test_two_thousand_pictures(self, browser: Browser) -> None:
        """All are counted; the picture of the page is cut where it is too tall."""
        message = page('<img src="a.png" alt="" width="200" height="100">' * 2000, a_dot_png=picture(200, 100))
        capture = browser.capture(CaptureRequest.of(rewrite(message, profiles()["desktop-pane"]), profiles()["desktop-pane"]))
        assert capture.measured.facts["images"] == 2000
        assert capture.measured.facts["broken"] == 0
        assert capture.measured.cut
        assert capture.height == 12_000

    def test_a_message_that_cannot_be_rendered_is_told(self, browser: Browser) -> None:
        """The profiles say why, the trials are left, and checks answer that they cannot tell."""
        message = page('<div style="columns:2;column-fill:balance">' * 14 + "x " * 500)
        renders = surveyed(message, browser, "desktop-pane")
        assert "did not lay out in time" in renders.failed["desktop-pane"]
        assert renders.shown is None
        answers = run(message, Context(renders=renders), ["appearance.blank", "appearance.css-unsupported"])
        assert {one.outcome.value for one in answers} == {"cannot-tell"}

    def test_trials_of_a_plain_mail(self, browser: Browser) -> None:
        """Nothing to lose."""
        assert losses_shown(partial(rewrite, read_bytes(b"Subject: x\n\nhello", "x.eml")), {}, [], browser) == []
