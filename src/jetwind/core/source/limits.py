"""How much of a message is looked at. Work is linear in the input or stops here, and what was left out is told as one finding.

A large newsletter has about 100,000 characters of HTML, 2,000 elements and 300 style rules (measured on the corpus named in
tests/references.py); each limit is many times that.
"""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Limits:
    """All limits; a field's comment says what it counts."""

    #: Characters of the HTML part.
    html_characters: int = 2_000_000
    #: Elements of its tree.
    elements: int = 20_000
    #: Times that an open formatting element is built anew in a later block (HTML §13.2.4.3), which multiplies a misnested tree.
    rebuilt_elements: int = 20_000
    #: Characters of all style elements together.
    sheet_characters: int = 200_000
    #: Fields of one syntax in one text.
    tokens: int = 5_000
    #: Characters of all style attributes that differ.
    styles_characters: int = 400_000
    #: Characters of one style attribute, one alternative text, one address.
    value_characters: int = 20_000
    #: Characters of the plain-text part.
    text_characters: int = 500_000
    #: Characters of one passage of copy: a paragraph, a cell, a subject.
    passage_characters: int = 10_000
    #: Characters of copy that all checks of wording read together.
    copy_characters: int = 400_000
    #: Octets of one header field.
    header_octets: int = 65_536
    #: Octets of one parameterised MIME field such as Content-Type.
    parameter_octets: int = 4_096
    #: Header fields of one part, and parts of a mail.
    header_fields: int = 2_000
    parts: int = 2_000
    #: Links that are looked at one by one.
    links: int = 5_000


LIMITS = Limits()


@dataclass(frozen=True, slots=True)
class FillingLimits:
    """How much filling one text for one reader may ask for."""

    #: Its fields and block tags; a newsletter has a hundred.
    tokens: int = 5_000
    #: Rounds of all its loops together.
    rounds: int = 20_000
    #: Characters of one value, digits of one number, items of one list.
    value_characters: int = 200_000
    digits: int = 1_000
    items: int = 10_000
    #: Characters that all its filters make together, and those of what comes out.
    all_characters: int = 5_000_000
    output_characters: int = 4_000_000


FILLING = FillingLimits()


@dataclass(frozen=True, slots=True)
class Reached:
    """A limit that a message goes over: what was looked at of it, in words with the number."""

    what: str
    limit: int
