"""The postal address of a sender in a text."""

from __future__ import annotations

import re

from jetwind.core.prose.stated import stated

#: Capital and other letters of the alphabets that addresses are read in: Latin and Cyrillic.
_UPPER, _ANY = "A-ZÀ-ÞĀ-Ž\u0401\u0410-\u042f", r"[^\W\d_]"
_BOX = re.compile(
    r"\b(?:p\.?\s?o\.?\s?box|post office box|postfach|boîte postale|apartado(?: de correos)?|caixa postal|casella postale|postbus|skr(?:ytka|zynka) poczt(?:owa)?|postboks|postlåda|box)"
    r"\s*[:#]?\s*\d+|\bBP\s?\d+|\bprivate bag\b|(?<!\w)(?:а/я|абонентский ящик)\s*№?\s*\d+",
    re.IGNORECASE,
)
_STREET_WORD = (
    r"street|st|avenue|ave|road|rd|lane|ln|drive|dr|boulevard|blvd|way|court|ct|place|pl|square|sq|terrace|parkway|pkwy|highway|hwy|quay|wharf|row|"
    r"close|crescent|gardens?|grove|hill|mews|park|parade|suite|ste|floor|unit|building|bldg|circle|plaza|walk|yard|house|alley|embankment|pier|"
    r"rue|avenida|av|calle|carrera|plaza|paseo|via|viale|piazza|corso|largo|rua|praça|travessa|estrada|alameda|ulica|ul|aleja|al|plac|osiedle|os|"
    r"laan|straat|gracht|plein|weg|kade|gasse|platz|allee|ufer|damm|vej|gade|gata|gatan|vägen|väg|katu|tie|chemin|quai|impasse|cours|c/|"
    r"ул|улица|пр|просп|проспект|пер|переулок|наб|набережная|шоссе|бульвар|бул|площадь|пл|проезд"
)
#: Words that stand before the name of a street or a number, and not behind it.
_FIRST_WORD = (
    r"rue|avenue|avenida|av|calle|carrera|plaza|paseo|via|viale|piazza|corso|largo|rua|praça|travessa|estrada|alameda|ulica|ul|aleja|plac|osiedle|"
    r"chemin|quai|impasse|cours|place|boulevard|bd|allée|c/|ул|улица|пр|просп|проспект|пер|переулок|наб|набережная|шоссе|бульвар|бул|площадь|пл|проезд"
)
#: What may stand between a street and its number.
_NO = r"[.,]?\s+(?:(?:nr|no|n|д|дом|house)\b[.º°]?\s*|n[.º°]\s*|№\s*|#\s*)?"
_STREET = re.compile(
    rf"\b\d{{1,5}}[A-Za-z]?(?:[-–/]\d{{1,5}})?(?:\s(?:bis|ter))?,?\s+(?:[\w.'’-]{{1,40}}\s+){{0,4}}?(?:{_STREET_WORD})\b"
    rf"|\b(?:{_FIRST_WORD})\.?,?\s+(?:[\w.'’-]{{1,40}}\s+){{0,4}}?(?:[\w.'’-]{{1,40}}{_NO})?\d{{1,5}}\b"
    r"|\b(?:suite|ste|floor|unit|level|building|bldg|house)\.?\s+#?\d{1,5}\b"
    rf"|\b[{_UPPER}][\w.-]{{0,40}}(?:straße|strasse|str\.|weg|gasse|platz|allee|ufer|damm|straat|laan|gracht|plein|kade|gatan|gata|vägen|vejen|vej|gaden|gade|katu|tie|проспект|улица)\s+\d{{1,5}}",
    re.IGNORECASE,
)
_NUMBERED_NAME = re.compile(
    rf"\b\d{{1,5}}[A-Za-z]?,?\s+[{_UPPER}][\w'’-]{{1,40}}(?:\s+[{_UPPER}][\w'’-]{{1,40}}){{0,3}}"
    rf"|\b[{_UPPER}][\w'’-]{{1,40}}(?:\s+[\w'’-]{{1,40}}){{0,3}},?\s+\d{{1,4}}[A-Za-z]?(?:/\d{{1,3}}){{0,2}}(?=,)"
)
_PLACE = rf"[{_UPPER}][\w'’.-]{{1,40}}"
#: Letters of a country before its code.
_COUNTRY = "A|AT|B|BE|CH|CZ|D|DE|DK|E|EE|ES|F|FI|FR|GR|H|HR|HU|I|IT|L|LT|LU|LV|N|NL|NO|P|PL|PT|RO|RU|S|SE|SI|SK"
_CODE = re.compile(
    r"\b[A-Z]{2}\.?,?\s+\d{5}(?:-\d{4})?\b"  # state and five digits
    r"|\b[A-Z]{1,2}\d[A-Z\d]?\s?\d[A-Z]{2}\b"  # letters and digits, two groups
    r"|\b[A-Z]\d[A-Z]\s?\d[A-Z]\d\b"
    r"|\b[A-Z]\d[\dW]\s[A-Z\d]{4}\b"  # a letter and two digits, then four of either
    rf"|\b(?:(?:{_COUNTRY})[- ])?(?!(?:19|20)\d\d\b)\d{{4,6}}(?:-\d{{3,4}})?,?\s+(?:г\.?\s*)?{_PLACE}"  # code that is no year, then place
    rf"|\b(?:(?:{_COUNTRY})[- ])?\d{{3}}\s\d{{2}}\s+{_PLACE}|\b\d{{2}}-\d{{3}}\s+{_PLACE}|\b\d{{5}}-\d{{3}}\b|\b\d{{4}}\s?[A-Z]{{2}}\b"
    rf"|\b{_PLACE}(?:,\s+|\s+[-–]\s+|,?\s+[A-Z]{{2,3}}\s+)(?!(?:19|20)\d\d\b)\d{{4,6}}\b"  # place, then code
    r"|\b[\u0401\u0410-\u042f][\w-]{1,40}\s+\d{6}\b"
    r"|〒?\b\d{3}-\d{4}\b"
)
#: A place of one to three words before its code.
_AFTER_PLACE = re.compile(rf"{_PLACE}(?:\s+{_PLACE}){{0,2}},?\s+(?:{_CODE.pattern})")
_NEAR = 160


#: Characters at the start and at the end of a long message in which an address is sought.
_START, _END = 20_000, 40_000
#: Characters before an address in which its owner is named.
_BEFORE = 70
#: Words before an address that is not the sender's (common practice, no published source; from memory).
_OTHERS = re.compile(
    r"\b(?:ship(?:s|ped|ping)?(?: it)? to|shipping address|deliver(?:y|ed|ing)?(?: it)? to|delivery address|bill(?:ed|ing)? to|billing address|invoice address|your (?:home |postal |own )?address"
    r"|recipient|lieferadresse|lieferanschrift|rechnungsadresse|rechnungsanschrift|geliefert an|adresse de (?:livraison|facturation)|livré à|dirección de (?:envío|entrega|facturación)"
    r"|indirizzo di (?:spedizione|consegna|fatturazione)|bezorgadres|factuuradres|afleveradres|endereço de (?:entrega|cobrança)|entrega em|morada de (?:entrega|faturação)|adres (?:dostawy|wysyłki|korespondencyjny odbiorcy)|dane do faktury|leveransadress|faktureringsadress|fakturaadress"
    r"|leveringsadresse|адрес (?:доставки|получателя|плательщика)|доставка по адресу|доставить по адресу)\b",
    re.IGNORECASE,
)
#: Network addresses, dates in figures, and years of a copyright.
_NETWORK = re.compile(
    r"\b\d{1,3}(?:\.\d{1,3}){3}(?:[:/]\d{1,5})?\b|\b\d{1,2}\.\d{1,2}\.(?:19|20)\d\d\b|(?:©|\(c\)|copyright)\s*(?:19|20)\d\d(?:\s*[-–]\s*(?:19|20)\d\d)?",
    re.IGNORECASE,
)
_PHONE = re.compile(
    r"(?:\b(?:call|phone|telephone|tel|fax|mobile|dial|ring|telefon|téléphone|teléfono|telefono|telefoon)\b[^\d\n]{0,20})(?:\+|\(|\d)[\d ()./-]{5,20}\d|\b\d{3}[-. ]\d{3}[-. ]\d{4}\b|\+\d[\d ()./-]{6,20}\d",
    re.IGNORECASE,
)


def _without_other_numbers(flat: str) -> str:
    """The text with dates, times, phone numbers and network addresses made blank, so that none is taken for a street or a code."""
    spans = [match.span() for pattern in (_NETWORK, _PHONE) for match in pattern.finditer(flat)]
    spans += [(fact.span.start, fact.span.end) for fact in stated(flat) if fact.kind in ("date", "time", "price", "percentage")]
    pieces, end = [], 0
    for start, stop in sorted(spans):
        if start >= end:
            pieces += [flat[end:start], "\0" * (stop - start)]
            end = stop
    return "".join(pieces) + flat[end:]


def postal_address(text: str) -> str | None:
    """The first stretch of text that reads as a postal address: a street with number, or a box, near a place with its code.

    Dates, times, phone numbers and network addresses are none, and the address of a buyer or of a delivery is not the sender's.
    Lenient otherwise, since a false alarm costs more here; common practice, no published source.
    """
    if len(text) > _START + _END:
        text = text[:_START] + "\n" + text[-_END:]
    flat = re.sub(r"[\s\u00a0]+", " ", text)
    if not _CODE.search(flat):
        return None
    flat = _without_other_numbers(flat)
    for pattern in (_BOX, _STREET, _NUMBERED_NAME):
        for match in pattern.finditer(flat):
            around = flat[max(0, match.start() - _NEAR) : match.start()] + " \0 " + flat[match.end() : match.end() + _NEAR]
            if pattern is _NUMBERED_NAME:
                # Any number before a capitalised word looks so ("12 March"): only a comma, a place and its code after it count.
                reads = _CODE.match(flat[match.end() : match.end() + _NEAR].partition(",")[2][:60].lstrip()) or _AFTER_PLACE.match(
                    flat[match.end() : match.end() + _NEAR].partition(",")[2][:60].lstrip()
                )
            else:
                reads = _CODE.search(around) or _CODE.search(flat[match.start() : match.end() + _NEAR])
            if reads and not _OTHERS.search(flat[max(0, match.start() - _BEFORE) : match.start()]):
                return flat[match.start() : match.end() + 60]
    return None
