"""Sample readers of a workspace: files of them taken in and saved, awkward ones made."""

import re
import threading
from typing import Any

import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from django.db import connection

from jetwind.apps.audit.models import LogEntry
from jetwind.apps.review.questions import context_of
from jetwind.apps.ui.refusal import NotAllowed, Refused
from jetwind.apps.workspace import readers
from jetwind.apps.workspace.models import SampleReader
from jetwind.core.readers import read_readers
from jetwind.core.readers.awkward import AWKWARD
from tests.apps.helpers import taken_in
from tests.factories import GOOD_HTML, mail

ROWS = b"reader;first_name;email;time_zone\nTove;Tove;tove@kiln.example;Europe/Dublin\nNils;;;\n"


def send(house: Any, data: bytes, user: str = "reviewer") -> Any:
    """A file sent by the form of the page."""
    return house.client(getattr(house, user)).post("/readers/take-in/", {"file": SimpleUploadedFile("r.csv", data)}, follow=True)


class TestFiles:
    """CSV, vCard and JSON, in and out."""

    def test_taken_in_and_saved(self, house: Any) -> None:
        """The page says how it was read; what is saved in each form is what was taken in."""
        answer = send(house, ROWS)
        assert "2 readers are added (CSV, parted by semicolons, UTF-8)." in answer.content.decode()
        tove = SampleReader.objects.get(name="Tove")
        assert (tove.email, tove.time_zone, tove.values) == ("tove@kiln.example", "Europe/Dublin", {"first_name": "Tove"})
        assert LogEntry.objects.filter(action="workspace.changed", data__what="2 readers of a file").exists()
        for form in ("csv", "vcf", "json"):
            answer = house.client(house.author).get(f"/readers/save/?form={form}")
            assert answer["Content-Disposition"].endswith(f'readers.{form}"')
            found = {reader.name: reader.values for reader in read_readers(answer.content).readers}
            assert found["Tove"]["first_name"] == "Tove" and found["Tove"]["time_zone"] == "Europe/Dublin"
        assert house.client(house.author).get("/readers/save/?form=exe").status_code == 404

    def test_those_that_are_there_stay(self, house: Any) -> None:
        """A second time adds nothing, and says so."""
        send(house, ROWS)
        SampleReader.objects.filter(name="Tove").update(remark="kept")
        answer = send(house, ROWS + b"Mo;Mo;;\n")
        assert (
            "1 reader is added" in answer.content.decode()
            and "Already there, and left as they were: Tove, Nils." in answer.content.decode()
        )
        assert SampleReader.objects.get(name="Tove").remark == "kept"

    @pytest.mark.parametrize(
        ("data", "said"),
        [
            (b"a,b\n1,2,3\n", "The file cannot be used: line 2 has 3 values for 2 columns."),
            (b"reader,email\nTove,t@kiln.example\nNils,nobody\n", "“Nils” cannot be kept: email: Enter a valid email address."),
            (b"reader,time_zone\nNils,Nowhere/At all\n", "“Nils” cannot be kept: time zone: "),
            (b"reader,x\n" + b"N" * 130 + b",1\n", "cannot be kept: name: "),
        ],
    )
    def test_all_or_none(self, house: Any, data: bytes, said: str) -> None:
        """A file that cannot be used whole changes nothing; the sentence names what is wrong."""
        before = SampleReader.objects.count()
        assert said in send(house, data).content.decode()
        assert SampleReader.objects.count() == before

    def test_an_audience_is_not_taken_whole(self, house: Any) -> None:
        """Of two thousand, the few that differ; masked, no name or address of the file is kept anywhere."""
        rows = "".join(f"n{number}@real.org,Person{number % 700},{('gold', 'plain', '')[number % 3]}\n" for number in range(2_000))
        before = set(SampleReader.objects.values_list("pk", flat=True))
        data = ("email,first_name,tier\n" + rows + "x@real.org,,gold\n").encode()
        answer = house.client(house.reviewer).post(
            "/readers/take-in/", {"file": SimpleUploadedFile("r.csv", data), "mask": "on"}, follow=True
        )
        assert re.search(r"The other 1,99\d of the file show nothing", answer.content.decode())
        taken = SampleReader.objects.exclude(pk__in=before)
        assert 3 <= taken.count() <= 9
        assert {reader.values["tier"] for reader in taken} == {"gold", "plain", ""}
        assert "" in {reader.values["first_name"] for reader in taken}
        assert all(reader.email.endswith("@masked.example") and "Person" not in str(reader.values) for reader in taken)

    @pytest.mark.parametrize(
        "data",
        [
            b'[{"reader": "a\\u0000b", "x\\u0000": "y\\ud800", "\\ud800": "1"}]',
            b'BEGIN:VCARD\nFN:a\x00b\nX-FIELD;X-NAME="c\x00":d\x00\nEND:VCARD\n',
            b"reader,x\x00\na\x00b,c\x01\n",
        ],
    )
    def test_what_no_database_holds_goes(self, house: Any, data: bytes) -> None:
        """Controls and lone surrogates, in names, fields and values."""
        assert "1 reader is added" in send(house, data).content.decode()
        assert SampleReader.objects.filter(name="ab").count() == 1

    def test_masked_names_that_come_out_alike(self, house: Any) -> None:
        """Forty names of one letter or figure: each reader is kept."""
        rows = b"".join(b"%c,1\n" % char for char in b"ABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789")
        house.client(house.reviewer).post("/readers/take-in/", {"file": SimpleUploadedFile("r.csv", b"reader,x\n" + rows), "mask": "on"})
        assert SampleReader.objects.filter(values={"x": "1"}).count() == 36

    def test_who_may(self, house: Any) -> None:
        """Taking in is for those who configure."""
        with pytest.raises(NotAllowed):
            readers.take_in_readers(house.author, house.workspace, ROWS)


class TestAwkward:
    """The generator's readers."""

    def test_added_once(self, house: Any) -> None:
        """One for each awkward thing, with the fields of the list; a second press adds none. The checks read them."""
        house.workspace.field_list = ["first_name", "city"]
        house.workspace.save()
        before = SampleReader.objects.count()
        client = house.client(house.reviewer)
        for _ in range(2):
            assert client.post("/readers/awkward/").status_code == 302
        assert SampleReader.objects.count() == before + len(AWKWARD) + 1
        assert SampleReader.objects.get(name="markup").values == {"first_name": "<b>Tess</b> <studio>", "city": "<b>Tess</b> <studio>"}
        assert "&lt;b&gt;Tess&lt;/b&gt;" in client.get("/readers/").content.decode()
        context = context_of(taken_in(house, mail(GOOD_HTML)))
        assert {reader.name for reader in context.readers} >= {*AWKWARD, "no time zone"}

    def test_without_a_field_list(self, house: Any) -> None:
        """There is nothing to fill in."""
        house.workspace.field_list = []
        house.workspace.save()
        with pytest.raises(Refused, match="field list is empty"):
            readers.add_awkward(house.reviewer, house.workspace)


@pytest.mark.django_db(transaction=True)
def test_two_files_at_once(house: Any) -> None:
    """The same file from two people: each reader once, nobody sees an error. Ten tries."""
    for number in range(10):
        data = b"reader,x\n" + b"".join(b"R%d-%d,1\n" % (number, one) for one in range(5))
        failures: list[Exception] = []

        def work(user: Any, data: bytes = data, failures: list[Exception] = failures) -> None:
            try:
                readers.take_in_readers(user, house.workspace, data)
            except Exception as failure:
                failures.append(failure)
            finally:
                connection.close()

        threads = [threading.Thread(target=work, args=(user,)) for user in (house.reviewer, house.operator)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        assert failures == []
        assert SampleReader.objects.filter(name__startswith=f"R{number}-").count() == 5


class TestRemoving:
    """A reader that nobody needs goes."""

    def test_removed_once(self, house: Any) -> None:
        """By the button of its page; a second time finds nothing; who may not configure is refused."""
        reader = SampleReader.objects.get(name="Bo")
        assert house.client(house.author).post(f"/readers/{reader.pk}/", {"do": "remove"}).status_code == 403
        client = house.client(house.reviewer)
        assert "Bo is removed" in client.post(f"/readers/{reader.pk}/", {"do": "remove"}, follow=True).content.decode()
        assert not SampleReader.objects.filter(name="Bo").exists()
        assert client.post(f"/readers/{reader.pk}/", {"do": "remove"}).status_code == 404
        readers.remove_reader(house.reviewer, reader)
        assert LogEntry.objects.filter(data__what="the sample readers: Bo was removed").count() == 1
