"""Sample readers read from files and written into them, and readers made to be awkward."""

import csv
import io
import json
from collections.abc import Sequence
from dataclasses import replace

import icalendar
import pytest
import vobject
from hypothesis import given
from hypothesis import strategies as st

from jetwind.core.fields import LIQUID
from jetwind.core.message import Sample, read_bytes
from jetwind.core.readers import FORMATS, UnusableReaders, as_reader, awkward_readers, fewest, longest, masked, read_readers, written
from jetwind.core.readers.awkward import AWKWARD
from jetwind.core.readers.choosing import traits
from jetwind.core.source import Span

#: Any text that a value may hold: controls are left out on reading, and line ends become one kind in a card.
VALUES = st.text(st.characters(exclude_categories=("Cs", "Cc")) | st.sampled_from("\n\t"), max_size=120)
NAMES = st.text(st.characters(exclude_categories=("Cs", "Cc", "Zs", "Zl", "Zp")), min_size=1, max_size=20).filter(
    lambda name: name != "reader"
)
READERS = st.lists(st.tuples(NAMES, st.dictionaries(NAMES, VALUES, max_size=6)), min_size=1, max_size=5, unique_by=lambda item: item[0])


def plain(readers: Sequence[Sample]) -> list[tuple[str, dict[str, str]]]:
    """Readers in a form to compare."""
    return [(reader.name, dict(reader.values)) for reader in readers]


class TestThereAndBack:
    """What is written and read again is equal."""

    @given(READERS, st.sampled_from(["json", "vcf"]))
    def test_cards_and_json(self, given_readers: list[tuple[str, dict[str, str]]], form: str) -> None:
        """Names, fields and values, missing ones too; of the fields of a card's own, as of any other."""
        readers = [Sample(name, values) for name, values in given_readers]
        assert plain(read_readers(written(readers, form)).readers) == given_readers

    @given(READERS)
    def test_csv(self, given_readers: list[tuple[str, dict[str, str]]]) -> None:
        """A field that a reader lacks is empty afterwards: CSV has no other way to say so."""
        fields = list(dict.fromkeys(name for _, values in given_readers for name in values))
        if not fields:
            return
        again = read_readers(written([Sample(name, values) for name, values in given_readers], "csv")).readers
        assert plain(again) == [(name, {one: values.get(one, "") for one in fields}) for name, values in given_readers if name or values]

    @pytest.mark.parametrize("form", list(FORMATS))
    def test_awkward_readers(self, form: str) -> None:
        """The generator's own, in each form."""
        fields = ("first_name", "last_name", "order.number", "street", "phone", "email", "birthday")
        made = awkward_readers(fields)
        again = read_readers(written(made, form)).readers
        expected = [
            (name, {one: values.get(one, "") for one in dict.fromkeys(("email", "time_zone", *fields))} if form == "csv" else values)
            for name, values in plain(made)
        ]
        assert plain(again) == expected


class TestOtherReadersOfCards:
    """What is written is read alike by libraries nobody here wrote. Sources: PyPI vobject 0.9.9 and icalendar 7.3.2."""

    CARD = written([Sample("Tess & Sons; Ltd, \\ Co", {"first_name": "Tess", "last_name": "O’Brien, jun.", "email": "tess@kiln.example", "street": "12 Quay; back", "city": "Galway", "note": "two\nlines " + "é" * 80, "order.number": "7;8"})], "vcf")  # fmt: skip

    def test_vobject(self) -> None:
        """Valid, with the same name, parts, address and note."""
        card = vobject.readOne(self.CARD.decode())
        card.validate()
        assert card.fn.value == "Tess & Sons; Ltd, \\ Co"
        assert (card.n.value.given, card.n.value.family) == ("Tess", "O’Brien, jun.")
        assert (card.email.value, card.adr.value.street, card.adr.value.city) == ("tess@kiln.example", "12 Quay; back", "Galway")
        assert card.note.value == "two\nlines " + "é" * 80

    def test_icalendar(self) -> None:
        """A component of the name VCARD with the same properties."""
        # It reads escapes before it cuts an address into its parts, so the semicolon inside the street goes.
        (card,) = icalendar.Component.from_ical(self.CARD.decode().replace("12 Quay\\; back", "12 Quay"), multiple=True)
        assert card.name == "VCARD"
        # Of properties that it has no type for it gives the value as it is written, folds taken out.
        assert str(card["NOTE"]) == "two\\nlines " + "é" * 80
        assert card["X-FIELD"].params["X-NAME"] == "order.number"

    def test_lines(self) -> None:
        """RFC 6350 §3.2: at most 75 octets, ended by CRLF, no character cut in two. Neither library minds."""
        lines = self.CARD.split(b"\r\n")
        assert lines[-1] == b"" and all(len(line) <= 75 and b"\n" not in line and b"\r" not in line for line in lines)
        for line in lines:
            line.decode()


class TestCards:
    """vCard as others write it."""

    def test_a_card_of_the_standard(self) -> None:
        """Source: RFC 6350 §8, the authors' cards, shortened; from memory."""
        text = (
            "BEGIN:VCARD\r\nVERSION:4.0\r\nFN:Simon Perreault\r\nN:Perreault;Simon;;;ing. jr,M.Sc.\r\nBDAY:--0203\r\nGENDER:M\r\n"
            "LANG;PREF=1:fr\r\nLANG;PREF=2:en\r\nORG;TYPE=work:Viagenie\r\nADR;TYPE=work:;Suite D2-630;2875 Laurier;\r\n"
            " Quebec;QC;G1V 2M2;Canada\r\nTEL;VALUE=uri;TYPE=\"work,voice\";PREF=1:tel:+1-418-656-9254;ext=102\r\n"
            "item1.EMAIL;TYPE=work:simon.perreault@viagenie.ca\r\nTZ:-0500\r\nEND:VCARD\r\n"
        )  # fmt: skip
        (reader,) = read_readers(text.encode()).readers
        assert reader.name == "Simon Perreault"
        assert reader.values == {
            "last_name": "Perreault",
            "first_name": "Simon",
            "suffix": "ing. jr,M.Sc.",
            "birthday": "--0203",
            "language": "fr",
            "company": "Viagenie",
            "address_addition": "Suite D2-630",
            "street": "2875 Laurier",
            "city": "Quebec",
            "region": "QC",
            "postal_code": "G1V 2M2",
            "country": "Canada",
            "phone": "+1-418-656-9254;ext=102",
            "email": "simon.perreault@viagenie.ca",
            "time_zone": "-0500",
        }

    def test_quoted_printable(self) -> None:
        """vCard 2.1 (from memory): soft line breaks, charsets, parameters without a name. Second opinion: PyPI vobject 0.9.9."""
        text = (
            "BEGIN:VCARD\r\nVERSION:2.1\r\nN;CHARSET=UTF-8;ENCODING=QUOTED-PRINTABLE:M=C3=BCller;J=C3=B6rg;;;\r\n"
            "FN;QUOTED-PRINTABLE;CHARSET=ISO-8859-1:J=F6rg=\r\n M=FCller=20=\r\nder Dritte\r\nTEL;HOME;VOICE:+49 1\r\n"
            "NOTE;ENCODING=QUOTED-PRINTABLE:one=3D=\r\ntwo\r\nEMAIL;INTERNET:j@kiln.example\r\nEND:VCARD\r\n"
        )
        (reader,) = read_readers(text.encode()).readers
        assert reader.name == "Jörg Müller der Dritte"
        wanted = {"last_name": "Müller", "first_name": "Jörg", "phone": "+49 1", "note": "one=two", "email": "j@kiln.example"}
        assert reader.values == wanted
        theirs = vobject.readOne(text, allowQP=True)
        assert (theirs.n.value.family, theirs.n.value.given, theirs.note.value) == ("Müller", "Jörg", "one=two")
        undecided = text.replace("CHARSET=UTF-8;", "").replace(";CHARSET=ISO-8859-1", "").replace("two\r\n", "two=\r\n")
        (reader,) = read_readers(undecided.encode()).readers
        assert (reader.name, reader.values["last_name"]) == ("Jörg Müller der Dritte", "Müller")

    @pytest.mark.parametrize(
        ("text", "said"),
        [
            ("BEGIN:VCARD\nFN:x\n", "does not end"),
            ("BEGIN:VCARD\nBEGIN:VCARD\n", "line 2 begins a card inside another"),
            ("BEGIN:VCARD\nFN:x\nEND:VCARD\nFN:y\n", "line 4 stands outside a card"),
            ("BEGIN:VCARD\nno property\n", "line 2 is no property of a card: 'no property'"),
        ],
    )
    def test_broken_cards(self, text: str, said: str) -> None:
        """The line is named."""
        with pytest.raises(UnusableReaders, match=said):
            read_readers(text.encode())


class TestCsv:
    """CSV as others write it."""

    @pytest.mark.parametrize(
        ("data", "form"),
        [
            (b"first_name,city\nTove,Galway\n", "CSV, parted by commas, UTF-8"),
            ("first_name;city\nTove;Gävle, Nord\n".encode("cp1252"), "CSV, parted by semicolons, windows-1252"),
            (b"\xef\xbb\xbffirst_name\tcity\r\nTove\tGalway\r\n", "CSV, parted by tabs, UTF-8"),
            ("\ufefffirst_name|city\nTove|Galway".encode("utf-16-le"), "CSV, parted by strokes, UTF-16"),
            (b'first_name;city\n"Tove;\nMarsh";"a ""b"""\n', "CSV, parted by semicolons, UTF-8"),
        ],
    )
    def test_encoding_and_separator_are_told_from_content(self, data: bytes, form: str) -> None:
        """And the columns are the fields."""
        found = read_readers(data)
        assert (found.form, found.fields, len(found.readers)) == (form, ("first_name", "city"), 1)

    def test_the_rules_of_the_standard(self) -> None:
        """RFC 4180 §2, rules 5 to 7: line ends, separators and doubled quotes inside quotes. Second opinion: Python's own csv."""
        data = b'email,note\r\n"a@kiln.example","one\r\ntwo, ""three"""\r\n'
        (reader,) = read_readers(data).readers
        assert reader.values == {"email": "a@kiln.example", "note": 'one\r\ntwo, "three"'}
        assert [dict(row) for row in csv.DictReader(io.StringIO(data.decode(), newline=""))] == [dict(reader.values)]

    def test_names_are_given_once(self) -> None:
        """By the column reader, else the address, else the number; a second one of a name is told apart."""
        data = b"reader,email,x\nTove,t@kiln.example,1\n,t@kiln.example,2\n,,3\nTove,,4\n,t@kiln.example,5\n"
        assert [reader.name for reader in read_readers(data).readers] == [
            "Tove",
            "t@kiln.example",
            "reader 3",
            "Tove (2)",
            "t@kiln.example (2)",
        ]

    @pytest.mark.parametrize(
        ("data", "said"),
        [
            (b"", "it is empty"),
            (b"\n\n , \n", "no names of fields"),
            (b"a,b\n", "holds no reader"),
            (b"a,a\n1,2\n", "two columns are named “a”"),
            (b"a,b\n1,2,3\n", "line 2 has 3 values for 2 columns"),
            (b'a,b\n"x"y,2\n', "line 2: "),
            (b"a,b\n1," + b"x" * 20_001, "line 2 has 20,001 characters; 20,000 are read"),
            (b",".join(b"f%d" % number for number in range(501)) + b"\n1\n", "501 fields"),
        ],
    )
    def test_what_cannot_be_used(self, data: bytes, said: str) -> None:
        """One sentence that names the place."""
        with pytest.raises(UnusableReaders, match=said):
            read_readers(data)

    @given(st.binary(max_size=300))
    def test_any_octets(self, data: bytes) -> None:
        """Readers, or the one error."""
        try:
            assert read_readers(data).readers
        except UnusableReaders as unusable:
            assert str(unusable)


class TestJson:
    """Lists of tables, or one table."""

    def test_tables_in_tables_and_other_values(self) -> None:
        """Dotted names; numbers and truth as JSON writes them; null is missing."""
        found = read_readers(json.dumps([{"name": "Tove", "order": {"number": 7, "paid": True}, "city": None}]).encode())
        assert found.form == "JSON, UTF-8"
        assert plain(found.readers) == [("reader 1", {"name": "Tove", "order.number": "7", "order.paid": "true"})]

    @pytest.mark.parametrize(
        ("data", "said"),
        [
            (b"[1]", "a list of readers"),
            (b"{", "it is no JSON"),
            (b'[{"a": [1]}]', "“a” of reader 1 is a list"),
            (b"[" * 100_000, "it is no JSON"),
            (b"[]", "holds no reader"),
            (
                json.dumps([{f"f{number % 400}": 1} for number in range(4_000)]).encode(),
                "4,000 readers with 400 fields; 1,000,000 values are read",
            ),
        ],
    )
    def test_what_cannot_be_used(self, data: bytes, said: str) -> None:
        """One sentence."""
        with pytest.raises(UnusableReaders, match=said):
            read_readers(data)


def test_awkward_readers_have_what_they_say() -> None:
    """Every field of each holds the awkward thing; addresses and zones stay usable, but for the one without a zone."""
    made = {reader.name: reader.values for reader in awkward_readers(["first_name", "city", "email"])}
    assert list(made) == [*AWKWARD, "no time zone"]
    assert "first_name" not in made["fields missing"] and made["nothing filled in"]["city"] == ""
    assert [len(made[name]["city"]) for name in ("one letter", "forty letters", "eighty letters without a break")] == [1, 40, 80]
    assert " " not in made["eighty letters without a break"]["city"]
    assert all(values["email"] == "reader@saltmarsh-kiln.example" for values in made.values())
    assert [name for name, values in made.items() if "time_zone" not in values] == ["no time zone"]


class TestFewest:
    """The few that show everything."""

    @given(
        st.lists(
            st.dictionaries(st.sampled_from("abc"), st.sampled_from(["", "x", "yy", "zzz", "<b>", " p", "نور", "陶"]), max_size=3),
            min_size=1,
            max_size=30,
        )
    )
    def test_they_show_what_all_show(self, rows: list[dict[str, str]]) -> None:
        """Whatever any reader shows is shown by one of those chosen; none is chosen for nothing."""
        readers = [Sample(str(number), row) for number, row in enumerate(rows)]
        chosen = fewest(readers, 1_000)
        everything = {trait for trait, _ in traits(readers)}
        shown = {number: {trait for trait, other in traits(readers) if other == number} for number in chosen}
        assert set().union(*shown.values()) == everything
        assert len(chosen) <= max(len(everything), 0)

    def test_an_audience(self) -> None:
        """Of 20,000 readers with three tiers, a handful."""
        readers = [Sample(str(number), {"name": f"P{number % 977}", "tier": "abc"[number % 3]}) for number in range(20_000)]
        readers[7_001] = Sample("odd", {"name": "", "tier": "a"})
        assert len(fewest(readers, 50)) <= 6
        assert 7_001 in fewest(readers, 50)


class TestMasking:
    """Names and addresses in other letters."""

    @given(VALUES)
    def test_shape_and_stability(self, value: str) -> None:
        """The same for the same; as long; letters for letters, digits for digits, all else as it was."""
        one, other = (masked(Sample("n", {"first_name": value, "tier": value}), b"key").values for _ in range(2))
        assert one == other
        assert one["tier"] == value
        if "@" not in value:
            assert len(one["first_name"]) == len(value)
            for old, new in zip(value, one["first_name"], strict=True):
                assert (old.isalpha(), old.isdigit(), old.isupper(), old.islower()) == (
                    new.isalpha(),
                    new.isdigit(),
                    new.isupper(),
                    new.islower(),
                )
                assert old == new or old.isalnum()

    def test_another_key_and_addresses(self) -> None:
        """Without the key nothing leads back; an address stays one, of a domain that nobody owns."""
        reader = Sample("Tove Marsh", {"email": "tove.marsh@kiln.example", "last_name": "Marsh", "city": "Galway"})
        one, other = masked(reader, b"one"), masked(reader, b"other")
        assert one.values["last_name"] not in ("Marsh", other.values["last_name"])
        assert one.values["city"] == "Galway"
        local, _, domain = one.values["email"].partition("@")
        assert domain == "masked.example" and len(local) == len("tove.marsh") and local[4] == "." and "tove" not in local
        assert one.name != reader.name and len(one.name) == len(reader.name)


class TestAsReader:
    """The message as one of them gets it."""

    MAIL = (
        "From: \"{{ studio }}\" <a@kiln.example>\nSubject: Hello {{ first_name }}\nMIME-Version: 1.0\nContent-Type: multipart/alternative; boundary=z\n\n"
        "--z\nContent-Type: text/plain\n\nDear {{ first_name }}\n--z\nContent-Type: text/html\n\n"
        "<p>Dear {{ first_name }}</p><a href='https://kiln.example/{{ code }}'>x</a>\n--z--\n"
    )  # fmt: skip

    def test_every_part_is_filled(self) -> None:
        """Subject, sender, both texts, attributes; markup in a value stays text where the sending system escapes it; places lead back."""
        message = read_bytes(self.MAIL.encode(), "a.eml", syntax=replace(LIQUID, escapes=True))
        merged = as_reader(message, Sample("Tess", {"first_name": "Tess <b>", "studio": "Kiln", "code": "7"}))
        assert merged.message.subject == "Hello Tess <b>"
        assert merged.message.mailboxes("From")[0].name == "Kiln"
        assert merged.message.text is not None and merged.message.text.text.startswith("Dear Tess <b>")
        assert merged.message.html is not None and message.html is not None
        assert "<p>Dear Tess &lt;b&gt;</p>" in merged.message.html.text
        at = merged.message.html.text.index("/7")
        place = merged.in_source(Span(at + 1, at + 2))
        assert place is not None and message.html.text[place.start : place.end] == "{{ code }}"

    def test_the_longest_copy(self) -> None:
        """The reader for whom most is written."""
        message = read_bytes(self.MAIL.encode(), "a.eml")
        readers = [Sample("short", {"first_name": "Bo"}), Sample("long", {"first_name": "Maximiliana"}), Sample("none", {})]
        found = longest(message, readers)
        assert found is not None and found.name == "long"
        assert longest(message, []) is None


def test_many_columns() -> None:
    """A file of twenty thousand is refused for their number before any two are compared."""
    with pytest.raises(UnusableReaders, match="20,000 fields; 500 are read"):
        read_readers(",".join(["same"] * 20_000).encode())
    with pytest.raises(UnusableReaders, match="two columns are named “same”"):
        read_readers(b"same,other,same\n1,2,3")
