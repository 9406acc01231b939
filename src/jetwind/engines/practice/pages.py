"""The pages of the practice field: the cooperative's own, its guild's, and pages with something wrong."""

from __future__ import annotations

from html import escape

_STYLE = (
    "body{margin:0;background:#f6f4ee;color:#1b2430;font:17px/1.55 Georgia,serif}main{max-width:44rem;margin:auto;padding:1.5rem}"
    "header{background:#1b2430;color:#f6f4ee;padding:1rem 1.5rem}header a{color:inherit}h1{font-size:1.9rem;line-height:1.2}"
    "td,th{padding:.4rem 1rem .4rem 0;text-align:left}"
)
_PHONE = '<meta name="viewport" content="width=device-width, initial-scale=1">'
HOUSE = "Saltmarsh Kiln Works"


def page(
    title: str, body: str, *, heading: str | None = None, head: str = _PHONE, style: str = "", language: str = "en", house: str = HOUSE
) -> str:
    """A whole page under the house's header."""
    return (
        f'<!doctype html><html lang="{language}"><head><meta charset="utf-8">{head}<title>{escape(title)} · {escape(house)}</title>'
        f'<style>{_STYLE}{style}</style></head><body><header><a href="/">{escape(house)}</a></header>'
        f"<main><h1>{escape(heading or title)}</h1>{body}</main></body></html>"
    )


NOT_FOUND = page("Page not found", "<p>There is no such page on the quay.</p>")
#: Answers 200 all the same, as many houses' pages do.
SOFT_NOT_FOUND = page("Sorry, this page does not exist", "<p>It may have moved.</p>", heading="Page not found")
EXPIRED_OFFER = page("Glaze sale", "<p>Come back in autumn.</p>", heading="This offer has expired")
DESKTOP_ONLY = page(
    "Order form", f"<table style='width:1180px'><tr>{''.join(f'<td>Column {n}</td>' for n in range(14))}</tr></table>", head=""
)
TINY = page("Terms in small print", "<p>" + "What holds when you buy, said at length and small. " * 40 + "</p>", style="p{font-size:9px}")
FINE = page("All is well", "<p>This page is there.</p>")
WARNING = page("Stop and think", "<p>The gateway of Saltmarsh does not know where this link leads.</p>", house="Gateway of Saltmarsh")
ERROR = page("Something broke", "<p>The kiln's computer has had enough.</p>")

#: The pages behind the demo's links, by path.
PAGES: dict[str, str] = {
    "/": page(
        "Pottery on the quay",
        "<p>Courses, firing slots, glaze and clay.</p><p><a href='/glaze-sale'>Glaze sale</a> <a href='/courses'>Courses</a></p>",
    ),
    "/glaze-sale": page(
        "Twelve glazes, a fifth off",
        "<p>Until Sunday 14 March every litre of glaze at the works costs a fifth less.</p><table><tr><th>Glaze<th>A litre</tr>"
        "<tr><td>Tidepool<td>£16.00</tr><tr><td>Ember<td>£18.40</tr></table><p>Bring your member card, or order for collection.</p>",
    ),
    "/courses": page(
        "Courses in spring",
        "<p>Throwing off the hump: Tuesdays from 2 March, £140 for six evenings.</p><p>Raku in a day: Saturday 20 March, £85, code "
        "KILN20.</p><p>Handbuilding: Thursdays from 4 March, £120.</p>",
    ),
    "/courses/throwing": page(
        "Throwing off the hump",
        "<p>Tuesdays from 2 March, six evenings from seven to ten, £140 with clay and firing. Eight wheels, one teacher, and tea at half past eight.</p><p>Bring an apron; your pots wait on the long shelf.</p>",
    ),
    "/courses/raku": page(
        "Raku in a day",
        "<p>Saturday 20 March, ten to six. £85 with clay and glaze; bring gloves, and a jumper that may smell of smoke afterwards.</p><p>We light the kiln at one and open it at four.</p>",
    ),
    "/firing-slots": page("Firing slots", "<p>The gas kiln on Tuesdays, the electric ones every day.</p>"),
    "/membership": page("Membership", "<p>£60 a year, with a shelf of your own and a tenth off clay.</p>"),
    "/programme": page("Open studio weekend: programme", "<p>Saturday 8 and Sunday 9 May, ten to six. Raku at four.</p>"),
    "/open-studio": page("Open studio weekend", "<p>Saturday 8 and Sunday 9 May. Book a wheel for an hour, £12.</p>"),
    "/wheel": page("A wheel of your own", "<p>An hour at the wheel with somebody beside you.</p>"),
    "/collect": page("Collect a firing", "<p>Your shelf is by the door. We keep it for four weeks.</p>"),
    "/choose": page(
        "What you get from us",
        "<form method='post'><p><label><input type='checkbox' checked> Sales</label></p><button>Keep</button></form>",
    ),
    "/leave": page("Leave the list", "<form method='post'><p>One press and you get no more of this.</p><button>Leave</button></form>"),
    "/online": page("This message as a page", "<p>Twelve glazes, a fifth off until Sunday 14 March.</p>"),
    "/order-form": DESKTOP_ONLY,
    "/summer-offer": EXPIRED_OFFER,
    "/privacy": page("Privacy", "<p>What we keep of you, and for how long.</p>"),
    "/terms": page("Terms of sale", "<p>What holds when you buy.</p>"),
    "/quay": page("How to find the quay", "<p>12 Kiln Quay, Saltmarsh SM4 7KW.</p>"),
}
GUILD: dict[str, str] = {
    "/": page("Potters of the tidewater", "<p>Nine houses between two rivers.</p>", house="Tidewater Guild"),
    "/members": page("Members", "<p>Saltmarsh Kiln Works is one of nine.</p>", house="Tidewater Guild"),
}
