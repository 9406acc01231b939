"""The message says where its sender can be found."""

from __future__ import annotations

from collections.abc import Iterator

from jetwind.core.checking import Context, DoesNotApply, Hit, Level, Options, Place, check, clear, finds
from jetwind.core.checks.footer.asked import lacking, need_bulk
from jetwind.core.links.said import footer_of
from jetwind.core.message import Message


@check(
    id="footer.address-missing",
    name="No postal address",
    level=Level.STOP,
    why="The law asks for a valid postal address in commercial mail.",
    fix="Put the sender's street or box, place and code in the footer.",
    basis="15 U.S.C. 7704(a)(5)(A)(iii) (from memory)",
    merged=True,
    samples=[
        clear("<p>Saltmarsh Kiln Works, 12 Kiln Quay, Saltmarsh SM4 7KW</p>"),
        clear("<p>P.O. Box 114<br>Saltmarsh, OR 97001</p>"),
        clear("<p>Töpferei am Deich, Hafenstraße 9, 26409 Wittmund</p>"),
        clear("<p>7 rue du Four, 29000 Quimper</p><p>Calle Mayor 3, 28013 Madrid</p>"),
        clear("<p>{{ company_address }}</p>"),
        clear("<p>{{ postal_address }}</p>"),
        clear("<p>Your receipt</p>", kind="transactional"),
        clear("From: a@kiln.org\nSubject: x\n\nKiln Works\n350 Fifth Avenue, Suite 12\nNew York, NY 10118\n"),
        clear("<p>1-2-3 Minami, Tokoname 479-0836</p>"),
        clear("<p>Pracownia Piec, ul. Piecowa 12, 00-123 Warszawa</p>"),
        clear("<p>Мастерская «Печь»</p><p>ул. Печная, д. 12</p><p>123456 Москва</p>"),
        clear("<p>Oficina do Forno, Rua do Forno 12, 1200-123 Lisboa</p>"),
        clear("<p>Ugnen, Ugnsgatan 12, 123 45 Stockholm</p>"),
        clear("<p>Töpferei am Deich, Am Markt 3, 20095 Hamburg</p>"),
        clear("<img src='https://kiln.org/foot.png' alt='Saltmarsh Kiln Works, 12 Kiln Quay, Saltmarsh SM4 7KW'>"),
        finds("<p>Adres dostawy: ul. Piecowa 12, 00-123 Warszawa</p>"),
        finds("<p>Адрес доставки: ул. Печная, д. 12, 123456 Москва</p>"),
        clear("<p>Saltmarsh Kiln Works, 12 Kiln Quay, Saltmarsh SM4 7KW. Call 01632 960 123, open from 9 March 2027.</p>"),
        finds("<p>Sale until Sunday. 20% off 12 glazes.</p>"),
        finds("<p>Your order ships to: Maeve Quill, 12 Kiln Quay, Saltmarsh SM4 7KW</p>"),
        finds("<p>Delivery address: 12 Kiln Quay, Saltmarsh SM4 7KW</p>"),
        finds("<p>Signed in from 192.168.10.12 near Saltmarsh, at 12 March 2027, 09:15 in Saltmarsh 12345</p>"),
        finds("<p>Call us at 555-0123 or 212 555 0199 in Saltmarsh, Kiln House.</p>"),
        finds("<p>Saltmarsh Kiln Works. Copyright 2027. All rights reserved.</p>"),
        finds("<p>{{ email_address }}</p><p>Call 01632 960 123</p>"),
        finds("<p>The best way to save 20: drive 5 miles to our house. © 2027 Saltmarsh Kiln Works. Order 123456.</p>"),
        finds("<p>Order 12345 Bowls from 12 March 2027 and save 1000 points</p>"),
    ],
)
def find_missing(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """A commercial message names a street or box, a place and its code."""
    need_bulk(context, "footer.address-missing", "a transactional message needs no postal address")
    if message.html is None and message.text is None:
        raise DoesNotApply("the message has no text at all")
    if footer_of(message).said("address") is None:
        alone = Hit("The message shows no postal address.", Place("html" if message.html else "text"), identity="missing")
        yield lacking("footer.address-missing", message, context, alone)
