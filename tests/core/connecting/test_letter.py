"""Reading letters and addresses: what is found, what is left aside, and what is only a guess."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

import nailer.standins.demo
from nailer.core.connecting.letter import Field, LetterReading, read

LETTERS = Path(__file__).parents[2] / "letters"
DEMO_LETTERS = Path(nailer.standins.demo.__file__).parent / "letters"
EXPECTED: dict[str, dict[str, Any]] = json.loads((LETTERS / "expected.json").read_text())


def values(reading: LetterReading, account: int = 0) -> dict[str, str]:
    return {what.value: str(found.value) for what, found in reading.accounts[account].fields.items()}


@pytest.mark.parametrize("name", EXPECTED)
def test_a_letter_is_read(name: str) -> None:
    text, wanted = (LETTERS / f"{name}.txt").read_text(), EXPECTED[name]

    reading = read(text)

    assert len(reading.accounts) == len(wanted["accounts"])
    for number, account in enumerate(wanted["accounts"]):
        found = values(reading, number)
        assert {what: found.get(what) for what in account} == account
    aside = {text[one.start : one.end] for one in reading.asides}
    assert set(wanted["asides"]) <= aside
    for words in wanted["notes"]:
        assert any(words.lower() in note.lower() for note in reading.notes), reading.notes


@pytest.mark.parametrize(
    ("name", "wanted"),
    [
        (
            "tidepool",
            {"host": "ftp.skerryferries.example", "user_name": "maren", "password": "tide-table-61", "port": "22"}
            | {"protocol": "sftp", "start_there": "/htdocs", "web_address": "https://skerryferries.example/"},
        ),
        (
            "moss-lane",
            {"host": "ftp.mosslane.example", "user_name": "seedlib", "password": "sow-and-reap-4", "port": "21"}
            | {"protocol": "ftps", "start_there": "/www", "web_address": "http://mosslane.example/"},
        ),
        (
            "northlight",
            {"host": "hosting.northlight.example", "user_name": "northlight", "password": "plate-scan-88"}
            | {"protocol": "ftps", "start_there": "/public", "web_address": "https://northlight.example/"},
        ),
    ],
)
def test_the_demos_letters_are_read_whole(name: str, wanted: dict[str, str]) -> None:
    found = values(read((DEMO_LETTERS / f"{name}.txt").read_text()))

    assert {what: found.get(what) for what in wanted} == wanted


@pytest.mark.parametrize(
    ("text", "wanted"),
    [
        ("sftp://maren@skerry.example:2222/htdocs", {"port": "2222", "user_name": "maren", "start_there": "/htdocs"}),
        (
            "ftp://web%40quay.example@ftp.quay.example/",
            {"user_name": "web@quay.example", "protocol": "ftps", "port": "21"},
        ),
        ("ftps://ftp.quay.example", {"protocol": "ftps-implicit", "port": "990"}),
        ("https://www.quay.example/shop/index.html?x=1", {"host": "www.quay.example", "protocol": "sftp"}),
        ("deploy@box.example:/srv/web", {"user_name": "deploy", "start_there": "/srv/web", "protocol": "sftp"}),
        ("  ftp.quay.example\u00a0\n", {"host": "ftp.quay.example"}),
        ("127.0.0.1:2121", {"host": "127.0.0.1", "port": "2121"}),
    ],
)
def test_an_address_is_read(text: str, wanted: dict[str, str]) -> None:
    found = values(read(text))

    assert {what: found.get(what) for what in wanted} == wanted


def test_the_marks_stand_where_the_values_stand() -> None:
    text = (DEMO_LETTERS / "tidepool.txt").read_text()
    fields = read(text).accounts[0].fields

    for what in (Field.HOST, Field.USER, Field.PASSWORD, Field.PORT, Field.FOLDER):
        found = fields[what]
        assert text[found.start : found.end] == found.value


def test_a_guess_says_so_and_a_label_is_named() -> None:
    fields = read("FTP/SFTP server: srv.example.example\nSSH port: 2222").accounts[0].fields

    assert fields[Field.PROTOCOL].guessed
    assert fields[Field.PROTOCOL].why == "guessed: an SSH port is given"
    assert fields[Field.HOST].why == "beside “FTP/SFTP server”"


def test_plain_ftp_is_never_read_out_of_a_letter() -> None:
    """Encryption is tried first; without it nothing goes out unless the person says so."""
    for text in ("FTP server: ftp.a.example", "ftp://ftp.a.example/", "Protocol: FTP\nServer: a.example"):
        assert values(read(text))["protocol"] == "ftps"


@pytest.mark.parametrize("password", ["=a:b", ".dot", ":x|y", "|pipe", "-dash", "(in)brackets", "a,b.", "#1!"])
def test_a_password_is_never_changed(password: str) -> None:
    assert values(read(f"Server: ftp.a.example\nUser: u\nPassword: {password}\n"))["password"] == password


def test_a_secret_is_in_no_printed_form() -> None:
    assert "hunter-gather" not in repr(read("Server: a.example\nPassword: hunter-gather"))


@given(st.text(max_size=400))
def test_any_text_can_be_read(text: str) -> None:
    """Whatever is pasted: a reading with at least one account, and marks inside the text."""
    reading = read(text)

    assert reading.accounts
    for account in reading.accounts:
        for found in account.fields.values():
            if found.start is not None and found.end is not None:
                assert 0 <= found.start <= found.end <= len(text)


@given(
    st.lists(
        st.sampled_from(
            ["Server", "User", "Password", ":", "\n", "\t", " is ", "ftp.a.example", "/www", "x9", "|", "("]
        )
    )
)
def test_any_mixture_of_labels_and_values_can_be_read(parts: list[str]) -> None:
    assert read("".join(parts)).accounts
