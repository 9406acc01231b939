"""Words and postal addresses by which a footer is known, in many ways of saying, and what only sounds like them."""

from __future__ import annotations

import re
import tomllib
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from jetwind.core.links.said import footer_of
from jetwind.core.message import Message, read_bytes
from jetwind.core.prose.postal import postal_address
from tests.factories import mail

SAYINGS: dict[str, dict[str, list[str]]] = tomllib.loads((Path(__file__).parent / "footer_sayings.toml").read_text("utf-8"))


def saying(text: str, *, is_link: bool) -> Message:
    """A message whose footer says this; braces, or the whole of a link's name, become a link."""
    linked = re.sub(r"\{(.*?)\}", r"<a href='https://k.org/x1'>\1</a>", f"{{{text}}}" if is_link and "{" not in text else text)
    return read_bytes(mail(f"<p>Twelve glazes are a fifth off.</p><table><tr><td>{linked}</td></tr></table>", None), "a.eml")


class TestSayings:
    """Ways to say one thing, many more than the phrases list."""

    @pytest.mark.parametrize(
        ("demand", "language"), [(demand, language) for demand in SAYINGS if demand != "none" for language in SAYINGS[demand]]
    )
    def test_what_is_told(self, demand: Any, language: str) -> None:
        """Each is recognised."""
        texts = SAYINGS[demand][language]
        assert [text for text in texts if footer_of(saying(text, is_link=demand != "reason")).said(demand) is None] == []

    @pytest.mark.parametrize("demand", SAYINGS["none"])
    def test_what_is_none(self, demand: Any) -> None:
        """Orders, bookings, offers and invitations to join lead out of no list."""
        assert [text for text in SAYINGS["none"][demand] if footer_of(saying(text, is_link=True)).said(demand)] == []

    @pytest.mark.parametrize(
        ("listed", "told"), [("https://k.org/l/7?m=x", True), ("https://k.org/", False), ("mailto:hello@k.org", False)]
    )
    def test_a_page_that_the_header_names(self, listed: str, told: bool) -> None:
        """It leads out in the copy, too, whatever it is called there; a home page or a mailbox does not."""
        copy = "<p>Sale</p><a href='https://k.org/l/7?m=x'>Genug</a><a href='https://k.org/'>Kiln</a><a href='mailto:hello@k.org'>Post</a>"
        message = read_bytes(mail(copy, None, List_Unsubscribe=f"<{listed}>"), "a.eml")
        assert (footer_of(message).said("unsubscribe") is not None) is told


class TestPostalAddresses:
    """A sender's address, and what is none."""

    @pytest.mark.parametrize(
        "text",
        [
            "12 Kiln Quay, Saltmarsh SM4 7KW",
            "P.O. Box 114, Saltmarsh, OR 97001",
            "350 Fifth Avenue, Suite 12\nNew York, NY 10118",
            "100 King St W, Toronto, ON M5H 1A1",
            "PO Box 42, Dublin 2, D02 AF30",
            "Hafenstraße 9, 26409 Wittmund",
            "Am Markt 3, 20095 Hamburg",
            "Bahnhofstrasse 1, 8001 Zürich",
            "12 bis, avenue de la République, 75011 Paris",
            "BP 123, 29200 Brest Cedex",
            "C/ Mayor, 3, 2º B, 28013 Madrid",
            "Via dei Forni, 12 – 20121 Milano",
            "Postbus 123, 1000 AA Amsterdam",
            "Praça do Comércio, 1, 1100-148 Lisboa",
            "Rua Augusta, 1500 - São Paulo, SP, 01305-100",
            "ul. Długa 5/7, 31-147 Kraków",
            "191186, Санкт-Петербург, Невский проспект, 28",
            "123456, г. Москва, ул. Печная, дом 12",
            "Kungsgatan 4, SE-111 43 Stockholm",
            "Strandvejen 12, 2900 Hellerup",
            "Mannerheimintie 12, 00100 Helsinki",
            "Ringstraße 5/2/12, 1010 Wien",
            "An der Alster 6 | 20099 Hamburg",
            "Am Kai 3\n26382 Wilhelmshaven",
            "ZA Les Argiles, 44300 Nantes",
            "Polígono Industrial El Pino, parcela 14, 41016 Sevilla",
            "Kerkstraat 12 bus 3, 2000 Antwerpen, België",
            "al. Jerozolimskie 65/79 lok. 4, 00-697 Warszawa",
            "1-2-3 Shibuya, Shibuya-ku, Tokyo 150-0002, Japan",
            "Calle 93 # 11-27, Bogotá, Colombia",
            "Carrera 7 No. 71-21, Oficina 402, Bogotá D.C. 110231",
            "3 Wharf St, Level 4, Sydney NSW 2000",
            "10 Anson Road, #12-05, Singapore 079903",
            "12 Loop Street, Cape Town 8001",
            "16/F, 88 Queen's Road Central, Hong Kong",
            "The Old Pottery, Marsh End, Little Quill, Norfolk, NR23 1AB",
            "One Market Plaza, 3rd Floor, Port Clay, California 94105",
            "45 E. 20th St., New York, N.Y. 10003",
        ],
    )
    def test_addresses(self, text: str) -> None:
        """As they are written in twenty countries."""
        assert postal_address(text)

    @pytest.mark.parametrize(
        "text",
        [
            "Saltmarsh",
            "Order 12345 Bowls from 12 March 2027",
            "Signed in from 192.168.10.12 near Saltmarsh, at 12 March 2027, 09:15 in Saltmarsh 12345",
            "Your order ships to: Maeve Quill, 12 Kiln Quay, Saltmarsh SM4 7KW",
            "Lieferadresse: Hafenstraße 9, 26409 Wittmund",
            "Adres dostawy: ul. Piecowa 12, 00-123 Warszawa",
            "Адрес доставки: ул. Печная, д. 12, 123456 Москва",
            "Entrega em: Rua do Forno 12, 1200-123 Lisboa",
            "Wir treffen uns am 12. März 2027 um 15 Uhr",
            "Версия 12, заказ 123456 Москва",
            "Zamówienie 12345 z 12 marca 2027",
            "Top 10 Places to See in 2027",
            "Kelly et al, Case No. 01-CV-8541 SVW). Additional briefs will be filed",
            "256MB PC-2100 Double Data Rate (DDR) 184-Pin (32x64) RAM",
            "07.10.2002 MediaREPORT",
            "Call us at 555-0123 or 212 555 0199 in Saltmarsh, Kiln House.",
            "Glaze 1010 Wien green, 5 litres, 12 in stock",
            "In 2026 we fired 10117 bowls on 4 kilns",
            "Room 12 at the Town Hall, doors open 18:30",
            "Calle mayor de la feria, 12 de mayo de 2027",
            "Win 10000 points in London",
            "Version 5.2.12 of 1010, open 10-18 in Tokyo",
            "100 Interface\n• 7200 RPM, 8MB buffer",
            "Deliver to: Maeve Quill, Kiln House, Saltmarsh, SM4 2QD",
            "Adresse de livraison : 14 rue des Potiers, 75011 Paris",
        ],
    )
    def test_what_is_none(self, text: str) -> None:
        """Orders, dates, parts, network addresses, and the addresses of buyers."""
        assert postal_address(text) is None

    @settings(deadline=None)
    @given(st.text(max_size=400))
    def test_nothing_raises(self, text: str) -> None:
        """Whatever the text."""
        postal_address(text)
