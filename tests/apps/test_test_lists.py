"""Test lists with people, readers and devices, and files of people."""

from __future__ import annotations

import threading
from typing import Any

import pytest
import vobject
from django.core.files.uploadedfile import SimpleUploadedFile
from django.db import connection

from jetwind.apps.proofs import test_lists
from jetwind.apps.proofs.models import TestAddress, TestList
from jetwind.apps.ui.refusal import NotAllowed, Refused
from jetwind.apps.workspace.models import SampleReader
from tests.apps.helpers import page_of


@pytest.fixture
def people(house: Any) -> list[TestAddress]:
    """Two people with everything that is said of them."""
    bo = SampleReader.objects.get(name="Bo")
    said = [
        test_lists.Person("rosa@kiln.org", "Rosa Quill", bo, "phone; “the old tablet”, at home"),
        test_lists.Person("amos@kiln.org", "Амос, Thrift", None, "=SUM(A1)"),
    ]
    return [test_lists.add_person(house.reviewer, house.test_list, one) for one in said]


class TestPeople:
    """One by one."""

    def test_through_the_page(self, house: Any) -> None:
        """Added with a reader and devices, changed, and shown."""
        client = house.client(house.reviewer)
        bo = SampleReader.objects.get(name="Bo")
        given = {"address": "rosa@kiln.org", "name": " Rosa  Quill ", "reader": bo.pk, "devices": "phone"}
        client.post(f"/settings/test-lists/{house.test_list.pk}/add/", given)
        entry = TestAddress.objects.get(address="rosa@kiln.org")
        assert (entry.name, entry.reader, entry.devices) == ("Rosa Quill", bo, "phone")
        client.post(f"/settings/test-addresses/{entry.pk}/", {"name": "Rosa", "reader": "", "devices": "tablet"})
        page = page_of(client.get("/settings/test-lists/"))
        assert '<td>Rosa</td><td>rosa@kiln.org</td><td><span class="muted">nobody: defaults only</span></td><td>tablet</td>' in page

    def test_a_reader_of_another_house(self, house: Any) -> None:
        """Is nobody's here."""
        other = SampleReader.objects.create(workspace=house.outsider.memberships.get().workspace, name="Stranger", values={})
        house.client(house.reviewer).post(
            f"/settings/test-lists/{house.test_list.pk}/add/", {"address": "rosa@kiln.org", "reader": other.pk}
        )
        assert TestAddress.objects.get(address="rosa@kiln.org").reader is None

    def test_the_usual_list(self, house: Any) -> None:
        """One at a time; the form for a new test send begins with it."""
        second = TestList.objects.create(workspace=house.workspace, name="Second")
        for one in (house.test_list, second):
            house.client(house.reviewer).post(f"/settings/test-lists/{one.pk}/usual/")
        assert [one.name for one in TestList.objects.filter(is_usual=True)] == ["Second"]

    @pytest.mark.parametrize(
        ("person", "why"),
        [
            (test_lists.Person("x@far.example"), "outside the domains"),
            (test_lists.Person("x@kiln.org", "n" * 121), "more than 120 characters"),
            (test_lists.Person("x@kiln.org", "", None, "d" * 201), "more than 200 characters"),
            (test_lists.Person("one@kiln.org"), "is on “Team” already"),
        ],
    )
    def test_what_is_refused(self, house: Any, person: test_lists.Person, why: str) -> None:
        """With a sentence that names it."""
        with pytest.raises(Refused, match=why):
            test_lists.add_person(house.reviewer, house.test_list, person)

    def test_who_may(self, house: Any, people: list[TestAddress]) -> None:
        """An author sees the lists and changes none."""
        with pytest.raises(NotAllowed):
            test_lists.take_in_people(house.author, house.test_list, b"reader,email\nX,x@kiln.org\n")
        author = house.client(house.author)
        assert author.post(f"/settings/test-addresses/{people[0].pk}/", {"name": "x"}).status_code == 403
        assert author.get(f"/settings/test-lists/{house.test_list.pk}/save/").status_code == 200
        assert house.client(house.outsider).get(f"/settings/test-lists/{house.test_list.pk}/save/").status_code == 404


class TestFiles:
    """A list as a file, and a file as a list."""

    @pytest.mark.parametrize("form", ["csv", "vcf"])
    def test_there_and_back(self, house: Any, people: list[TestAddress], form: str) -> None:
        """Everything that is said of each person, after a way through the file; what a spreadsheet would run comes back, too."""
        file = house.client(house.author).get(f"/settings/test-lists/{house.test_list.pk}/save/?form={form}").content
        said = sorted((one.address, one.name, one.reader_id, one.devices) for one in house.test_list.addresses.all())
        empty = TestList.objects.create(workspace=house.workspace, name="Empty")
        assert test_lists.take_in_people(house.reviewer, empty, file) == (4, 0)
        assert sorted((one.address, one.name, one.reader_id, one.devices) for one in empty.addresses.all()) == said
        assert test_lists.take_in_people(house.reviewer, empty, file) == (0, 4)

    def test_another_library_reads_the_cards(self, house: Any, people: list[TestAddress]) -> None:
        """vobject reads names and addresses (RFC 6350)."""
        file = house.client(house.author).get(f"/settings/test-lists/{house.test_list.pk}/save/?form=vcf").content.decode()
        cards = list(vobject.readComponents(file))
        assert [(card.fn.value, card.email.value) for card in cards][-2:] == [
            ("Rosa Quill", "rosa@kiln.org"),
            ("Амос, Thrift", "amos@kiln.org"),
        ]

    def test_cards_of_an_address_book(self, house: Any) -> None:
        """Cards as address books write them, with a note of the devices in place of a heading of ours."""
        cards = b"BEGIN:VCARD\r\nVERSION:4.0\r\nFN:Rosa Quill\r\nEMAIL;TYPE=work:rosa@kiln.org\r\nTEL:+49 1\r\nEND:VCARD\r\n"
        assert test_lists.take_in_people(house.reviewer, house.test_list, cards) == (1, 0)
        assert TestAddress.objects.get(address="rosa@kiln.org").name == "Rosa Quill"

    @pytest.mark.parametrize(
        ("file", "why"),
        [
            (b"", "it is empty"),
            (b"name,email\nRosa,\n", "has no address in the file"),
            (b"reader,email\nRosa,x@far.example\n", "outside the domains"),
            (b"reader,email\nRosa,rosa\n", "is not an e-mail address"),
            (b"\x00\x01\x02", "no address|cannot be read"),
            (b"reader,email\n" + b"".join(b"R%d,r%d@kiln.org\n" % (n, n) for n in range(60)), "would have 62 addresses"),
        ],
    )
    def test_what_is_no_list(self, house: Any, file: bytes, why: str) -> None:
        """Said with what is wrong; nobody is added."""
        with pytest.raises(Refused, match=why):
            test_lists.take_in_people(house.reviewer, house.test_list, file)
        assert house.test_list.addresses.count() == 2

    def test_through_the_page(self, house: Any) -> None:
        """A file that is dropped; one that names a reader whom the house does not have."""
        client, address = house.client(house.reviewer), f"/settings/test-lists/{house.test_list.pk}/take-in/"
        file = SimpleUploadedFile("team.csv", b"reader,email,sample reader,devices\nRosa,rosa@kiln.org,bo,phone\n")
        assert "New: 1 person is on" in client.post(address, {"file": file}, follow=True).content.decode()
        entry = TestAddress.objects.get(address="rosa@kiln.org")
        assert (entry.name, entry.reader, entry.devices) == ("Rosa", SampleReader.objects.get(name="Bo"), "phone")
        file = SimpleUploadedFile("team.csv", b"reader,email,sample reader\nAmos,amos@kiln.org,Xaver\n")
        assert "names the sample reader “Xaver”" in client.post(address, {"file": file}, follow=True).content.decode()
        assert "Choose a CSV or vCard file first" in client.post(address, {}, follow=True).content.decode()


@pytest.mark.django_db(transaction=True)
def test_two_people_bring_one_file(house: Any) -> None:
    """Everybody of it is on the list once."""
    file = b"reader,email\n" + b"".join(b"R%d,r%d@kiln.org\n" % (n, n) for n in range(20))

    def bring() -> None:
        try:
            test_lists.take_in_people(house.reviewer, house.test_list, file)
        finally:
            connection.close()

    threads = [threading.Thread(target=bring) for _ in range(3)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join(60)
    assert house.test_list.addresses.count() == 22
