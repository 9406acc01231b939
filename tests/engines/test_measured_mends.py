"""Mends of what only renders show: found, made and proven in a real browser."""

from __future__ import annotations

from jetwind.cli.rendering import renders_of
from jetwind.core.checking import Context, run
from jetwind.core.checking.mends import measured_checks
from jetwind.core.mending import offers_of, strays, with_changes
from jetwind.core.message import read_bytes

PROFILES = ("desktop-pane", "phone-upright", "word-processor", "webmail-bare", "pane-blocked")
PAGE = """<!doctype html><html lang="en"><head><title>Cups</title><meta name="viewport" content="width=device-width">
<style>.faint { color: #b0b0b0 }</style></head><body style="margin:0;background:#ffffff">
<table width="100%" role="presentation"><tr><td style="padding:20px;color:#222222;font:16px Arial,sans-serif">
<p class="faint">The kiln on the quay has been fired, and the cups of this spring are cooling now.</p>
<p style="font-size:11px;line-height:13px">Come and see the glazes that we have mixed this winter: ash, tin and celadon, each on its own shelf.</p>
<p>Read <a href="https://kiln.org/a" style="color:#333333;text-decoration:none">how a glaze is mixed</a> before you come.</p>
<p>Words of common size stand here, so that no line of this page is its only one and most letters are large.</p>
<img src="https://pictures.kiln.org/cup.png" width="200" height="120" alt="A cup" style="color:#e6e6e6">
</td></tr></table>
<table width="100%" role="presentation"><tr><td style="font-size:0"><a href="https://kiln.org/1" style="font-size:10px">1</a>
<a href="https://kiln.org/2" style="font-size:10px">2</a></td></tr></table>
<table role="presentation" width="100%"><tr><td style="color:#222222;font:16px Arial,sans-serif"><h2 style="font-size:2rem">Firing</h2>Day and night</td></tr></table>
</body></html>
"""


def test_found_made_and_proven() -> None:
    """Each check of a look finds its fault before and nothing after; nothing shows beyond the table that a mend stands in."""
    message = read_bytes(PAGE.encode(), "a.html")
    before = renders_of(message, PROFILES, None)
    results = run(message, Context(renders=before), measured_checks())
    faulty = {one.check for one in results if one.findings}
    assert faulty == set(measured_checks())
    offers, withheld = offers_of(message, Context(renders=before), results)
    assert {one.check for one in offers} == faulty and not withheld and all(one.is_measured for one in offers)
    octets = with_changes(message, PAGE.encode(), [change for one in offers for change in one.changes])
    after = read_bytes(octets, "a.html")
    then = renders_of(after, PROFILES, None)
    left = {one.check: [finding.message for finding in one.findings] for one in run(after, Context(renders=then), measured_checks())}
    # What a client of XML descent drops of a link's padding is told: where such a client is chosen, that mend is withheld.
    assert left.pop("appearance.css-unsupported") == ["padding is lost: 2 places show in “Desktop, word-processor engine”."]
    assert not any(left.values()), left
    for name in PROFILES:
        assert not strays(message, after, offers, before.renders[name].measured, then.renders[name].measured), name
    again = offers_of(after, Context(renders=then), run(after, Context(renders=then), measured_checks()))[0]
    assert [one.check for one in again] == []


def test_a_rule_that_wins() -> None:
    """A sheet that says more than the style attribute: the finding stays on the render, which is what a proof is for."""
    page = "<style>p { color: #b0b0b0 !important }</style><body style='background:#fff'><p>The kiln on the quay has been fired.</p>"
    message = read_bytes(page.encode(), "a.html")
    context = Context(renders=renders_of(message, ["desktop-pane"], None))
    offers, _ = offers_of(message, context, run(message, context, ["access.contrast"]))
    assert len(offers) == 1
    after = read_bytes(with_changes(message, page.encode(), offers[0].changes), "a.html")
    (answer,) = run(after, Context(renders=renders_of(after, ["desktop-pane"], None)), ["access.contrast"])
    assert {fault.fingerprint for finding in answer.findings for fault in finding.told} >= set(offers[0].faults)
