"""Letters that are data: JSON and XML, on one line or many, alone or within prose."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nailer.core.connecting.letter import Field, read
from nailer.core.connecting.structured import laid_out

HOST = "ftp.mosslane.example"
ALIKE = {Field.HOST: HOST, Field.USER: "seedlib", Field.PASSWORD: "sow-and-reap"}

LETTERS = {
    "one line of JSON": f'{{"hosting":{{"server":"{HOST}","username":"seedlib","password":"sow-and-reap"}}}}',
    "JSON in lines": f'{{\n  "ftpServer": "{HOST}",\n  "userName": "seedlib",\n  "pass": "sow-and-reap"\n}}',
    "JSON within prose": f'Dear keeper,\n{{"host": "{HOST}", "user": "seedlib", "password": "sow-and-reap"}}\nRegards',
    "JSON beside a database": '{"database": {"host": "db.mosslane.example", "user": "dbu", "password": "no"},'
    f' "sftp": {{"host": "{HOST}", "user": "seedlib", "password": "sow-and-reap"}}}}',
    "XML in lines": f"<?xml version='1.0'?>\n<account>\n <server>{HOST}</server>\n <user>seedlib</user>\n"
    " <password>sow-and-reap</password>\n</account>",
    "one line of XML": f"<a><server>{HOST}</server><user>seedlib</user><password>sow-and-reap</password></a>",
    "attributes": f'<account server="{HOST}" user="seedlib" password="sow-and-reap"/>',
    "XML beside a database": "<h><mysql><host>db.mosslane.example</host><user>dbu</user></mysql>"
    f"<ftp><host>{HOST}</host><user>seedlib</user><password>sow-and-reap</password></ftp></h>",
    "a table of a page": f"<table><tr><td>Server</td><td>{HOST}</td></tr><tr><td>User</td><td>seedlib</td></tr>"
    "<tr><td>Password</td><td><b>sow-and-reap</b></td></tr></table>",
}


@pytest.mark.parametrize("letter", LETTERS.values(), ids=LETTERS)
def test_a_letter_of_data_is_read_like_any_other(letter: str) -> None:
    found = read(letter).accounts[0].fields

    assert {what: found[what].value for what in ALIKE} == ALIKE
    for what in ALIKE:
        one = found[what]
        assert letter[one.start : one.end] == one.value, "each is marked in the letter itself"


def test_what_is_escaped_is_read_as_it_is_meant() -> None:
    data = (
        read('{"host": "ftp.kelp.example", "user": "kelp", "password": "tide \\"pool\\" \\u0021"}').accounts[0].fields
    )
    marked = (
        read("<a><host>ftp.kelp.example</host><user>kelp</user><password>a&amp;b&lt;c</password></a>")
        .accounts[0]
        .fields
    )

    assert data[Field.PASSWORD].value == 'tide "pool" !'
    assert marked[Field.PASSWORD].value == "a&b<c"


@given(st.text(alphabet='{}[]<>/":,\\ab \n=', max_size=200))
def test_no_character_moves(text: str) -> None:
    found = laid_out(text)

    assert found is None or len(found.text) == len(text)
    read(text)
