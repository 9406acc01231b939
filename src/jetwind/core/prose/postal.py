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
    r"chemin|quai|impasse|cours|place|boulevard|bd|allée|al(?=\.)|os(?=\.)|pl(?=\.)|c/|ул|улица|пр|просп|проспект|пер|переулок|наб|набережная|шоссе|бульвар|бул|площадь|пл|проезд"
)
#: What may stand between a street and its number.
_NO = r"[.,]?\s+(?:(?:nr|no|n|д|дом|house)\b[.º°]?\s*|n[.º°]\s*|№\s*|#\s*)?"
#: The number of a house, with those of stair and door as in Vienna.
_HOUSE = r"\d{1,5}[A-Za-z]?(?:/\d{1,3}){0,3}"
#: Numbers of a house that are written as a word.
_NUMBER_WORD = "one|two|three|four|five|six|seven|eight|nine|ten"
#: Where firms stand that have no street: zones of trade in France and Spain.
_ZONE = (
    r"(?-i:\bZ\.?\s?[AI]\.?(?:\s?C\.?)?)\s+[\w'’.-]{2,40}|\bzone (?:artisanale|industrielle|commerciale|d['’]activités?)\b|\bparc d['’]activités?\b"
    r"|\bpol[ií]gono (?:industrial|ind\.)|\bpol\. ind\.|\bparque (?:empresarial|tecnológico|industrial)\b"
)
_STREET = re.compile(
    rf"\b\d{{1,5}}[A-Za-z]?(?:[-–/]\d{{1,5}})?(?:\s(?:bis|ter))?,?\s+(?:[\w.'’-]{{1,40}}\s+){{0,4}}?(?:{_STREET_WORD})\b"
    rf"|\b(?:{_FIRST_WORD})\.?,?\s+(?:[\w.'’-]{{1,40}}\s+){{0,4}}?(?:[\w.'’-]{{1,40}}{_NO})?\d{{1,5}}\b"
    rf"|\b(?:{_NUMBER_WORD})\s+(?:[\w.'’-]{{1,40}}\s+){{1,3}}?(?:{_STREET_WORD})\b"
    rf"|{_ZONE}"
    r"|\b(?:suite|ste|floor|unit|level|building|bldg|house)\.?\s+#?\d{1,5}\b"
    rf"|\b[{_UPPER}][\w.-]{{0,40}}(?:straße|strasse|str\.|weg|gasse|platz|allee|ufer|damm|straat|laan|gracht|plein|kade|gatan|gata|vägen|vejen|vej|gaden|gade|katu|tie|проспект|улица)\s+{_HOUSE}",
    re.IGNORECASE,
)
_NUMBERED_NAME = re.compile(
    rf"\b\d{{1,5}}[A-Za-z]?,?\s+[{_UPPER}][\w'’-]{{1,40}}(?:\s+[{_UPPER}][\w'’-]{{1,40}}){{0,3}}"
    rf"|\b[{_UPPER}][\w'’-]{{1,40}}(?:\s+[\w'’-]{{1,40}}){{0,3}},?\s+\d{{1,4}}[A-Za-z]?(?:/\d{{1,3}}){{0,3}}(?=\s?[,|·•\n])"
)
_PLACE = rf"[{_UPPER}][\w'’.-]{{1,40}}"
#: Letters of a country before its code.
_COUNTRY = "A|AT|B|BE|CH|CZ|D|DE|DK|E|EE|ES|F|FI|FR|GR|H|HR|HU|I|IT|L|LT|LU|LV|N|NL|NO|P|PL|PT|RO|RU|S|SE|SI|SK"
#: States of the United States as they are written out, and states of Australia.
_STATES = (
    "Alabama|Alaska|Arizona|Arkansas|California|Colorado|Connecticut|Delaware|Florida|Georgia|Hawaii|Idaho|Illinois|Indiana|Iowa|Kansas|Kentucky|Louisiana|Maine|Maryland|"
    "Massachusetts|Michigan|Minnesota|Mississippi|Missouri|Montana|Nebraska|Nevada|New Hampshire|New Jersey|New Mexico|New York|North Carolina|North Dakota|Ohio|Oklahoma|"
    "Oregon|Pennsylvania|Rhode Island|South Carolina|South Dakota|Tennessee|Texas|Utah|Vermont|Virginia|Washington|West Virginia|Wisconsin|Wyoming"
)
_CODE = re.compile(
    r"\b[A-Z]{2}\.?,?\s+\d{5}(?:-\d{4})?\b"  # state and five digits
    rf"|\b(?:{_STATES}|[A-Z]\.\s?[A-Z]\.),?\s+\d{{5}}(?:-\d{{4}})?\b"
    r"|\b(?:NSW|VIC|QLD|SA|WA|TAS|ACT|NT),?\s+\d{4}\b"
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
#: What ends an address only right behind a street: a code that looks like a year, one behind its place without a comma, and a country
#: that has no codes, or where many leave them out.
_YEAR_CODE = rf"[,\n|·•] ?(?:(?:{_COUNTRY})[- ])?(?:19|20)\d\d {_PLACE}"
_LATE_CODE = rf"[,\n|·•] ?{_PLACE}(?: {_PLACE}){{0,2}} (?!(?:19|20)\d\d\b)\d{{4,6}}\b"
_NO_CODE = r"[,\n|·•] ?(?:Ireland|Éire|Hong Kong|Macau|United Arab Emirates|U\.?A\.?E\b|Dubai|Qatar|Bahamas|Jamaica|Ghana|Uganda|Zimbabwe|Fiji|Panamá?)\b"
_LATE = re.compile(f"{_YEAR_CODE}|{_LATE_CODE}|{_NO_CODE}")
_AFTER_STREET = re.compile(rf"[^.!?\0]{{0,30}}?{_YEAR_CODE}|[^.!?\0]{{0,60}}?{_LATE_CODE}|(?:[^.!?\0]|Co\.){{0,80}}?{_NO_CODE}")
#: A name of up to five words; possessive, so that a text of nothing but capitals is walked through once.
_NAMED_PLACE = rf"[{_UPPER}][\w'’.-]{{1,40}}+(?: [\w'’&.-]{{1,40}}+){{0,4}}+"
#: Ways to write an address that need no code, or whose code is like no other.
_WHOLE = re.compile(
    # Streets and houses by number, as in Colombia: Calle 93 # 11-27.
    r"\b(?i:calle|carrera|cra|cll|cl|kr|avenida|av|diagonal|transversal)\.?\s\d{1,3}\s?[A-Za-z]{0,2}\s?(?:#|(?i:no|nro)\.?|n[.º°]{1,2}|№)\s?\d{1,3}\s?[A-Za-z]?\s?[-–]\s?\d{1,3}\b"
    # Block, plot and house before the ward, as in Japan: 1-2-3 Shibuya, Shibuya-ku.
    rf"|\b\d{{1,4}}[-−–]\d{{1,4}}(?:[-−–]\d{{1,4}})?,?\s{_PLACE}[^.!?\0]{{0,60}}?-(?:ku|shi|cho|machi)\b"
    rf"|\b\d{{1,3}}(?:[-−–]\d{{1,3}}){{2,3}},?\s{_PLACE}[^.!?\0]{{0,60}}?\b(?:Tokyo|Osaka|Kyoto|Japan)\b"
    # Names of house, street and place, one after another, before a code of letters and digits, as in villages of Britain.
    rf"|\b{_NAMED_PLACE}(?:[,\n] ?{_NAMED_PLACE}){{1,5}}[,\n]? ?[A-Z]{{1,2}}\d[A-Z\d]? \d[A-Z]{{2}}\b"
)
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


#: A house with stair and door is written like a date: Ringstraße 5/2/12.
_STREET_BEFORE = re.compile(
    rf"(?:{_STREET_WORD}|straße|strasse|str\.|{_ANY}{{2,30}}(?:weg|gasse|platz|allee|ufer|damm))\.?\s\Z", re.IGNORECASE
)


def _without_other_numbers(flat: str) -> str:
    """The text with dates, times, phone numbers and network addresses made blank, so that none is taken for a street or a code."""
    spans = [match.span() for pattern in (_NETWORK, _PHONE) for match in pattern.finditer(flat)]
    for fact in stated(flat):
        start, end = fact.span.start, fact.span.end
        is_house = fact.kind == "date" and "/" in flat[start:end] and _STREET_BEFORE.search(flat[max(0, start - 40) : start])
        if fact.kind in ("date", "time", "price", "percentage") and not is_house:
            spans.append((start, end))
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
    # An address is often set in lines; where one ends says as much as a comma.
    flat = re.sub(r" ?\n[ \n]*", "\n", re.sub(r"[^\S\n]+", " ", text.replace("\r", "\n")))
    # Most texts hold nothing that could end an address: looking for that first costs least.
    if not any(pattern.search(flat) for pattern in (_CODE, _LATE, _WHOLE)):
        return None
    flat = _without_other_numbers(flat)
    for pattern in (_BOX, _STREET, _NUMBERED_NAME, _WHOLE):
        for match in pattern.finditer(flat):
            if _is_address(flat, match) and not _OTHERS.search(flat[max(0, match.start() - _BEFORE) : match.start()]):
                return flat[match.start() : match.end() + 60]
    return None


_PARTED = re.compile(r" ?[,|·•\n] ?")


def _is_address(flat: str, match: re.Match[str]) -> bool:
    """Whether a place with its code stands near a street or a box."""
    pattern, after = match.re, flat[match.end() : match.end() + _NEAR]
    if pattern is _WHOLE:
        return True
    if pattern is _NUMBERED_NAME:
        # Any number before a capitalised word looks so ("12 March"): only a comma, a place and its code after it count.
        place = (_PARTED.split(after, maxsplit=1)[1:] or [""])[0][:60] if match[0][-1].isdigit() else after.partition(",")[2][:60].lstrip()
        return bool(_CODE.match(place) or _AFTER_PLACE.match(place))
    around = flat[max(0, match.start() - _NEAR) : match.start()] + " \0 " + after
    return bool(_CODE.search(around) or _CODE.search(match[0] + after) or (pattern is _STREET and _AFTER_STREET.match(after)))
