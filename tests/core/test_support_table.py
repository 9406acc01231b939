"""Each feature of the support table against each of its clients, by generation: what the table says is missing is taken out.

Source: the open client-support table, data file of the npm package caniemail 1.0.5 (MIT), read here from the package itself, not
through our own copy of it.
"""

from __future__ import annotations

import json
from collections import Counter
from functools import lru_cache
from typing import Any

import pytest

from jetwind.cli.main import facts
from jetwind.core.facts import table
from jetwind.core.facts.tables import NoteRow, Notes
from jetwind.core.message import Message, read_bytes
from jetwind.core.profiles import Profile, profiles, rewrite, support
from jetwind.core.profiles.support import Feature, coverage, features, losses, not_yet_applied, origin, unsimulated
from tests.references import npm
from tools.client_support import converted


@lru_cache
def published() -> dict[str, Any]:
    found: dict[str, Any] = json.loads((npm("caniemail", "1.0.5") / "data" / "caniemail.json").read_text("utf-8"))
    return found


def clients() -> list[str]:
    return sorted({client for feature in features().values() for client in feature.clients})


def a_client(client: str, account: str = "own") -> Profile:
    return Profile("made", "Made for a test", 600, 600, client, account=account)  # type: ignore[arg-type]


def test_our_copy_is_what_the_package_says() -> None:
    made = converted(published(), "caniemail@1.0.5")
    assert made["origin"] == origin()
    assert origin()["licence"] == "MIT"
    for slug, entry in made["features"].items():
        ours = features()[slug]
        assert (entry["title"], entry["clients"], entry["notes"]) == (ours.title, ours.clients, ours.notes), slug


def test_every_feature_is_sorted_and_enough_are_applied() -> None:
    assert set(features()) == {feature["slug"] for feature in published()["data"]}
    counts = coverage()
    print({category: dict(count) for category, count in counts.items()})
    both = counts["css"] + counts["html"]
    assert both["applied"] / sum(both.values()) >= 0.85  # the aim; it is 284 of 286
    assert all(feature.why for feature in features().values() if feature.how == "none")


def test_a_newer_table_with_a_value_of_another_kind_is_refused() -> None:
    given = {
        "last_update_date": "2027-01-01",
        "data": [{"slug": "x", "title": "x", "category": "css", "notes_by_num": None, "stats": {"f": {"p": {"1": "maybe"}}}}],
    }
    with pytest.raises(ValueError, match="maybe"):
        converted(given, "x@1")


def test_features_of_a_newer_table_need_no_hand(monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]) -> None:
    """A property, an element and an attribute that are called what their slug says are carried out; any other is told as not yet applied."""
    client = profiles()["webmail-wide"].modelled_on
    newer: dict[str, Any] = {"origin": origin(), "features": {slug: _entry(feature) for slug, feature in features().items()}}
    for slug, title, category in (
        ("css-glaze-depth", "glaze-depth", "css"),
        ("html-kiln", "<kiln>", "html"),
        ("html-firing", "firing attribute", "html"),
        ("css-nested-glazes", "Glazes inside glazes", "css"),
    ):
        newer["features"][slug] = {"title": title, "category": category, "clients": {client: "n"}, "notes": {}}
    monkeypatch.setattr(support, "_support", lambda: newer)
    features.cache_clear()
    losses.cache_clear()
    try:
        lost = {loss.feature: (loss.how, set(loss.names)) for loss in losses(client)}
        assert lost["css-glaze-depth"] == ("property", {"glaze-depth"})
        assert lost["html-kiln"] == ("element", {"kiln"})
        assert lost["html-firing"] == ("attribute", {"firing"})
        assert "css-nested-glazes" not in lost
        assert [feature.slug for feature in not_yet_applied()] == ["css-nested-glazes"]
        assert ("Glazes inside glazes", support.NOT_YET) in unsimulated(client)
        assert facts.callback is not None
        facts.callback()
        assert "not yet applied: css-nested-glazes (Glazes inside glazes), lacking or in part: 1 of 1 clients" in capsys.readouterr().out
    finally:
        monkeypatch.undo()
        features.cache_clear()
        losses.cache_clear()


def _entry(feature: Feature) -> dict[str, Any]:
    return {"title": feature.title, "category": feature.category, "clients": dict(feature.clients), "notes": dict(feature.notes)}


def test_every_profile_is_modelled_on_a_client_that_the_table_knows() -> None:
    with pytest.raises(ValueError, match="no such thing"):
        losses("no such thing")
    for profile in profiles().values():
        assert isinstance(profile.losses, tuple)


_PSEUDO = {":has": ":has(b)", ":lang": ":lang(en)", ":not": ":not(b)"}
_SELECTORS = {
    "+": "p + p",
    "[]": "p[class]",
    "chain": "p.a.b",
    ">": "div > p",
    ".": ".a",
    "descendant": "div p",
    "~": "p ~ p",
    ",": "p, b",
    "#": "#i",
    "type": "p",
    "*": "*",
}


def sample(feature: Feature) -> tuple[str, str]:
    """A message that uses a feature, and the text of it that must go where the feature is missing."""
    name = sorted(feature.names)[0] if feature.names else ""
    if feature.how == "property":
        used = f"{name}: inherit"
        return f'<p style="{used}">x</p>', used
    if feature.how == "keyword":
        used = f"{sorted(feature.properties or ['width'])[0]}: {name}"
        return f'<p style="{used}">x</p>', used
    if feature.how == "function":
        used = f"width: {name}(1, 2, 3)"
        return f'<p style="{used}">x</p>', used
    if feature.how == "unit":
        used = f"width: 10{name}"
        return f'<p style="{used}">x</p>', used
    if feature.how == "variables":
        return '<p style="--tone: red">x</p>', "--tone: red"
    if feature.how == "important":
        return '<p style="margin-zz: 1 !important">x</p>', "margin-zz: 1 !important"
    if feature.how == "at-rule":
        used = {
            "import": "@import url(a.css);",
            "font-face": "@font-face { font-family: F }",
            "keyframes": "@keyframes k { from { } }",
            "-webkit-keyframes": "@-webkit-keyframes k { from { } }",
        }.get(name, f"@{name} (max-width: 1px) {{ p {{ zz: 1 }} }}")
        return f"<style>{used}</style><p>x", used.split("{")[0].strip(" ;")
    if feature.how == "media-feature":
        return f"<style>@media ({name}) {{ p {{ zz: 1 }} }}</style><p>x", f"@media ({name})"
    if feature.how == "selector":
        selector = _SELECTORS.get(name) or "p" + _PSEUDO.get(name, f"{name}(2)" if "nth" in name else name)
        return f'<style>{selector} {{ zz: 1 }}</style><div><p class="a b" id="i">x</p><p>y</p></div>', f"{selector} {{"
    if feature.how == "nesting":
        return "<style>p { & b { zz: 1 } }</style><p><b>x</b></p>", "& b"
    if feature.how == "attribute":
        tag = {"background": "table", "align": "table", "usemap": "img", "srcset": "img", "sizes": "img"}.get(name, "p")
        return f'<{tag} {name}="a"><td>x', f'{name}="a"'
    if feature.how == "element":
        return f"<div><{name}>x</{name}></div>", f"<{name}"
    if feature.how == "control":
        return f'<div><{feature.tag} type="{name}">x</div>', f"<{feature.tag}"
    if feature.how == "node":
        used = {"link": '<link rel="icon" href="a">', "base": '<base href="a">', "meta": '<meta name="color-scheme" content="dark">'}[name]
        return f"<head>{used}</head><p>x", used.split()[0]
    if feature.how == "style":
        return "<head><style>p { zz: 1 }</style></head><p>x", "<style>p {"
    if feature.how == "body":
        return "<body><p>x</p></body>", "<body"
    if feature.how == "doctype":
        return "<!doctype html><p>x", "<!doctype"
    if feature.how == "image":
        ending = {
            "image/jpeg": "jpg",
            "image/svg+xml": "svg",
            "video/mp4": "mp4",
            "image/x-icon": "ico",
            "image/vnd.microsoft.icon": "ico",
            "image/vnd.radiance": "hdr",
            "image/heic": "heic",
        }.get(name, name.partition("/")[2])
        return f'<img src="https://pictures.example/a.{ending}" alt="x">', f"a.{ending}"
    if feature.how == "data-address":
        return '<img src="data:image/png;base64,iVBORw0KGgo=" alt="x">', "data:image/png"
    if feature.how == "behaviour":
        return f'<a href="{name}there">x</a>', ""
    assert feature.how == "none", feature
    return "<!-- x --><p>x", ""


#: Elements and attributes that no render keeps, whatever the table says: they run, load, or choose by the device; a picture in its own address is moved to a part.
_ALWAYS_GONE = {"html-base", "html-link", "html-audio", "html-video", "html-object", "html-srcset", "css-at-import", "image-base64"}


@lru_cache(maxsize=400)
def read(html: str) -> Message:
    return read_bytes(html.encode(), "sample.html")


@pytest.mark.parametrize("slug", list(features()))
def test_a_feature_goes_where_the_table_says_no_and_stays_where_it_says_yes(slug: str) -> None:
    feature = features()[slug]
    html, used = sample(feature)
    assert used in html
    answers = next(entry for entry in published()["data"] if entry["slug"] == slug)["stats"]
    for family, platforms in answers.items():
        for platform, versions in platforms.items():
            value = list(versions.values())[-1] if versions else "u"
            page = rewrite(read(html), a_client(f"{family} {platform}"))
            told = [change for change in page.changes if change.feature == slug]
            if value.startswith("n") and feature.how not in ("none",):
                # Something larger that the table says is missing too may have taken it along: its sheet, its selector, its twin property.
                assert told or any(change.is_listed for change in page.changes), (slug, family, platform, page.html)
                for change in told:
                    assert change.is_listed and change.title == feature.title
                    assert change.span is not None and (
                        used in html[change.span.start : change.span.end] or html[change.span.start : change.span.end] in html
                    )
                if used and not any(
                    loss.then in ("min-height", "told") for loss in a_client(f"{family} {platform}").losses if loss.feature == slug
                ):
                    assert used not in _unmarked(page.html), (family, platform, page.html)
            elif value.startswith(("y", "u")):
                assert not told or slug in _ALWAYS_GONE, (family, platform, told)
                others = [change for change in page.changes if change.feature != slug]
                if used and not others and slug not in _ALWAYS_GONE:
                    assert used in _unmarked(page.html), (family, platform, page.html)


def _unmarked(html: str) -> str:
    import re

    return re.sub(r' data-jetwind-element="\d+"', "", html)


def readings() -> list[Any]:
    return [pytest.param(reading, id=reading["says"][:60]) for reading in table("client_notes", Notes)["notes"] if "lost" in reading]


@pytest.mark.parametrize("reading", readings())
def test_what_a_note_says_is_carried_out_and_no_more(reading: NoteRow) -> None:
    """For every feature and client whose cell has the note: its sample is changed, its counter-sample is left alone."""
    tried = 0
    for feature in features().values():
        if feature.slug not in reading.get("features", (feature.slug,)):
            continue
        for client, value in feature.clients.items():
            notes = [feature.notes.get(number, "") for number in value.split()[1:]]
            if not value.startswith(("a", "n")) or not any(reading["says"] in note for note in notes):
                continue
            how = sorted(feature.names)[0] if feature.names else ""
            how = {":nth-child": ":nth-child(1)"}.get(how, how)
            lost = read(reading["lost"].replace("{how}", how))
            assert any(change.is_listed for change in rewrite(lost, a_client(client)).changes), (feature.slug, client)
            kept = read(reading["kept"].replace("{how}", how))
            if sum(1 for note in notes if note) == 1:
                told = [change for change in rewrite(kept, a_client(client)).changes if change.feature == feature.slug]
                assert not told, (feature.slug, client, told)
            tried += 1
    assert tried, "no cell of the table has this note"


def test_notes_about_the_account_hold_for_that_account_only() -> None:
    sheet = read("<style>p { color: red }</style><p>x")
    assert not rewrite(sheet, a_client("gmail android")).changes
    assert {change.feature for change in rewrite(sheet, a_client("gmail android", "other")).changes} >= {"html-style"}


def test_most_partly_supported_cells_are_carried_out_and_the_rest_is_told() -> None:
    cells: Counter[str] = Counter()
    for client in clients():
        left = {title for title, _ in unsimulated(client)}
        for feature in features().values():
            if feature.clients.get(client, "").startswith("a"):
                cells["left" if feature.title in left else "carried out"] += 1
    print(dict(cells))
    assert cells["carried out"] > 2 * cells["left"]
