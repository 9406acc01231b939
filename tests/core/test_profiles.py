"""The rewrite of a message for a simulated client."""

import hashlib
import io

import pytest
from PIL import Image

from jetwind.core.images.elsewhere import with_fetched
from jetwind.core.message import Message, Resource, read_bytes
from jetwind.core.profiles import MARK_ATTRIBUTE, PARTS_HOST, pictures, profiles, rewrite, usual
from jetwind.core.profiles.page import MOST_TEXT
from jetwind.core.source import LIMITS
from tests.factories import archive, mail, package, picture

DESKTOP = profiles()["desktop-pane"]


def page(html: str, **files: bytes) -> Message:
    """A package."""
    return read_bytes(package(html, **files), "x.zip")


class TestProfiles:
    """Data with our own descriptive names."""

    def test_what_the_set_covers(self) -> None:
        """Sixteen and more; desktop, tablet and phone both ways up, day and night, pictures shown and blocked, two engines."""
        shown = list(profiles().values())
        assert len(shown) >= 16
        assert len(usual()) >= 16
        assert {(profile.device, profile.is_turned) for profile in shown} == {
            ("desktop", False),
            ("tablet", False),
            ("tablet", True),
            ("phone", False),
            ("phone", True),
        }
        for wanted in (
            {"images": "blocked"},
            {"is_night": True, "night": "asks"},
            {"is_night": True, "night": "partial"},
            {"is_night": True, "night": "full"},
            {"engine": "word-processor"},
        ):
            assert any(all(getattr(profile, name) == value for name, value in wanted.items()) for profile in shown), wanted
        assert len({profile.name for profile in shown}) == len(shown)
        assert all(0 < profile.content_width <= profile.viewport[0] for profile in shown)

    def test_shown_otherwise(self) -> None:
        """Turned, a phone's height is its width; a desktop does not turn."""
        phone = profiles()["phone-upright"]
        assert phone.shown(turned=True).viewport == (664, 390)
        assert phone.shown(turned=True).shown(turned=False) == phone
        assert DESKTOP.shown(turned=True) == DESKTOP
        assert DESKTOP.shown(images="off", night=True).images == "blocked"


class TestRewrite:
    """Only exact places change."""

    def test_pictures_of_the_package_go_through_the_proxy(self) -> None:
        """By digest; what lies elsewhere is left as it is, and counted."""
        found = rewrite(
            page('<img src="a.png"><img src="https://k.org/b.png"><td style="background:url(a.png)">', a_dot_png=picture()), DESKTOP
        )
        (digest,) = found.parts
        assert f'src="http://{PARTS_HOST}/{digest}"' in found.html
        assert "https://k.org/b.png" in found.html
        assert found.lacking == ("https://k.org/b.png",)

    def test_fetched_pictures_keep_their_addresses(self) -> None:
        """The source stays as it is written; what a browser asks for is said beside it, in one spelling. Blocked, none is served."""
        written = (
            "<img src='HTTPS://K.org/a b.png?x=1&amp;y#z'><img src='//k.org/c.png'><p style=\"background:url('http://k.org/a.png')\">x</p>"
        )
        message = page(written)
        pictures = {
            address: picture(width)
            for width, address in ((10, "https://k.org/a%20b.png?x=1&y"), (20, "https://k.org/c.png"), (30, "http://k.org/a.png"))
        }
        message = with_fetched(message, {address: Resource(address, "image/png", None, data) for address, data in pictures.items()})
        found = rewrite(message, DESKTOP)
        assert "src='HTTPS://K.org/a b.png?x=1&amp;y#z'" in found.html
        assert "https://k.org/c.png" in found.html
        assert "url('http://k.org/a.png')" in found.html
        assert found.own == {address: hashlib.sha256(data).hexdigest() for address, data in pictures.items()}
        assert set(found.parts) == set(found.own.values())
        assert found.lacking == ()
        blocked = rewrite(message, DESKTOP.shown(images="off"))
        assert (blocked.own, blocked.parts, blocked.fetched) == ({}, {}, found.fetched)
        assert rewrite(page(written), DESKTOP).fetched == ""
        assert found.fetched != ""

    def test_blocked_pictures_keep_their_alternative_text(self) -> None:
        """Every source is one that the browser is refused."""
        found = rewrite(
            page('<img src="a.png" alt="Bowl" width="30"><img src="https://k.org/b.png">', a_dot_png=picture()), DESKTOP.shown(images="off")
        )
        assert found.html.count(f"http://{PARTS_HOST}/blocked") == 2
        assert 'alt="Bowl" width="30"' in found.html
        assert found.parts == {}

    def test_elements_are_marked_with_their_index(self) -> None:
        """So that what the browser measures can be laid beside findings."""
        message = page("<p>one</p><a href='x'>two</a>")
        assert message.document is not None
        for element in message.document.elements("p", "a"):
            assert f'<{element.tag} {MARK_ATTRIBUTE}="{element.index}"' in rewrite(message, DESKTOP).html

    @pytest.mark.parametrize(
        ("html", "gone", "feature"),
        [
            ("<p>a</p><script>alert(1)</script>", "alert", "element script"),
            ("<iframe src='https://k.org'></iframe>", "iframe", "element iframe"),
            ("<base href='https://k.org/'>", "<base", "element base"),
            ("<meta http-equiv='refresh' content='0;url=https://k.org'>", "refresh", "meta refresh"),
            ("<link rel='stylesheet' href='https://k.org/a.css'>", "a.css", "linked style sheet"),
            ("<p onclick='x()'>a</p>", "onclick", "attribute onclick"),
            ("<object data='x'><p>in</p></object>", "<object", "element object"),
            ("<img src='a.png' srcset='https://k.org/2x.png 2x'>", "2x.png", "attribute srcset"),
        ],
    )
    def test_active_and_remote_things_are_dropped_and_listed(self, html: str, gone: str, feature: str) -> None:
        """Nothing runs, nothing is fetched, and the list says what and where."""
        message = page(html)
        found = rewrite(message, DESKTOP)
        assert gone not in found.html
        assert [item.title for item in found.dropped] == [feature]
        assert message.html is not None
        place = found.dropped[0].span
        assert place is not None
        assert gone in message.html.source.slice(place)

    def test_what_is_not_looked_at_is_not_rendered(self) -> None:
        """Neither the HTML nor the plain text beyond the limits; it is told where, and no client is said to stop there."""
        written = "<p>kiln</p><p>" + "word " * (MOST_TEXT // 5) + "</p><p>the end</p>"
        message = read_bytes(written.encode(), "x.html")
        found = rewrite(message, DESKTOP)
        assert "the end" not in found.html
        assert MOST_TEXT < len(found.html) < MOST_TEXT + 1_000
        in_a_tag = rewrite(read_bytes(f"<p>kiln</p><p title='{'a' * LIMITS.html_characters}'>the end</p>".encode(), "x.html"), DESKTOP)
        assert len(in_a_tag.html) < 1_000
        assert "kiln" in in_a_tag.html
        (change,) = found.dropped
        assert change.title == "everything after 600,010 characters, which Jetwind does not draw"
        assert not found.clipped
        assert "the end" not in rewrite(message, DESKTOP, only="").html
        for many in ("<p>kiln</p>" * (LIMITS.elements + 1), "<b>" * 100 + "<p>kiln</p>" * LIMITS.rebuilt_elements):
            found = rewrite(page(many + "<script>the end</script>"), DESKTOP)
            assert "kiln" in found.html
            assert "the end" not in found.html
            assert found.dropped[-1].title.startswith("everything after ")
            assert found.dropped[-1].title.endswith(" characters, which Jetwind does not draw")
        text = rewrite(read_bytes(mail(None, "word " * (LIMITS.text_characters // 5 + 1) + "the end"), "x.eml"), DESKTOP)
        assert LIMITS.text_characters < len(text.html) < LIMITS.text_characters + 1_000

    def test_many_pixels_together(self, monkeypatch: pytest.MonkeyPatch) -> None:
        """Where all pictures of a message have too many, each large one is shown as a copy of the same proportions, and the change says so."""
        written = "".join(f'<img src="{name}.png" width="40">' for name in "abc")
        message = page(written, a_dot_png=picture(60, 40), b_dot_png=picture(60, 40, "#A61B29"), c_dot_png=picture(20, 10))
        whole = rewrite(message, DESKTOP)
        assert whole.pixels == 2 * 60 * 40 + 20 * 10
        monkeypatch.setattr(pictures, "MOST_TOGETHER", 4_000)
        monkeypatch.setattr(pictures, "COPY_PIXELS", 700)
        message = page(written, a_dot_png=picture(60, 40), b_dot_png=picture(60, 40, "#A61B29"), c_dot_png=picture(20, 10))
        found = rewrite(message, DESKTOP)
        sizes = sorted(Image.open(io.BytesIO(part.data)).size for part in found.parts.values())
        assert sizes == [(20, 10), (30, 20), (30, 20)]
        assert [change.title for change in found.changes if change.feature == "pixels"] == [
            "a picture of 60 × 40 px shown as a smaller copy"
        ] * 2
        assert found.pixels == 2 * 700 + 20 * 10

    def test_plain_mail_is_shown_as_text(self) -> None:
        """Escaped, in a page of its own."""
        found = rewrite(read_bytes(mail(None, "a < b & c"), "x.eml"), DESKTOP)
        assert "a &lt; b &amp; c" in found.html

    def test_html_without_anything_to_change_only_gains_marks(self) -> None:
        """Taking the marks out gives the source back."""
        import re

        source = "<!doctype html><html><head><title>t</title></head><body>\r\n<p class='a'>x &amp; y</p></body></html>"
        found = rewrite(read_bytes(archive({"a.html": source.encode()}), "x.zip"), DESKTOP)
        assert re.sub(rf' {MARK_ATTRIBUTE}="\d+"', "", found.html) == source
