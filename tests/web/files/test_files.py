"""The files view and what is asked for from it, over HTTP."""

from __future__ import annotations

import io
import os
import re
import tarfile
import time
import zipfile
from typing import Any

import pytest

from nailer.core.jobs.states import ENDED, JobState
from tests.builders import NOON_S, tree, write
from tests.web.conftest import Visitor

HERE, THERE = "/studio/moss", "/htdocs"
PAIR = f"here={HERE}&there={THERE}"


def wish(*names: str, **more: Any) -> dict[str, Any]:
    return {"here": HERE, "there": THERE, "names": list(names)} | more


def plan_of(text: str) -> str:
    found = re.search(r'data-job="(\d+)"', text)
    assert found, text
    return found[1]


def ended(maren: Visitor, job: str) -> JobState:
    portal = maren.client.portal
    assert portal is not None
    while True:
        state = portal.call(maren.nailer.stores.jobs.get, int(job)).state
        if state in ENDED:
            return state
        time.sleep(0.02)


def transfer(maren: Visitor, site: str, side: str, *names: str) -> JobState:
    plan = maren.post(f"{site}/plans/transfer", wish(*names, to_side=side))
    assert plan.status_code == 200, plan.text
    job = plan_of(plan.text)
    assert maren.post(f"/plans/{job}/carry-out", {"choice": "replace"}).status_code == 200
    return ended(maren, job)


@pytest.mark.parametrize(
    ("field", "value", "problem"),
    [
        ("host", "", "required"),
        ("host", "ftp.mosslane.example:22:x y", "Only the server"),
        ("port", "70000", "1 to 65535"),
        ("port", "²²", "1 to 65535"),
        ("start_here", "elsewhere/x", "begin with an allowed folder"),
        ("start_here", "studio/../../etc", "may not contain"),
        ("start_there", "/a/../b", "may not contain"),
        ("web_address_0", "ftp://mosslane.example", "looks like"),
        ("password", "", "password or a private key"),
        ("private_key", "ssh-ed25519 AAAA", "cannot be read"),
    ],
)
def test_a_site_form_says_what_is_wrong_and_stores_nothing(
    maren: Visitor, field: str, value: str, problem: str
) -> None:
    fields = {
        "name": "Moss Lane",
        "host": "ftp.mosslane.example",
        "user_name": "seedlib",
        "password": "sow-and-reap",
        "start_here": "studio/moss",
    }

    response = maren.post_form("/sites", **(fields | {field: value}))

    assert (response.status_code, problem in response.text) == (422, True)
    assert "Add your first site" in maren.get("/sites").text
    assert "sow-and-reap" not in response.text


def test_blanks_round_what_was_pasted_are_dropped_but_not_in_a_password(maren: Visitor) -> None:
    site = maren.add_site(host=" ftp.mosslane.example\u200b", user_name="\u00a0seedlib ", password=" sow-and-reap ")
    portal = maren.client.portal
    assert portal is not None

    stored = portal.call(maren.nailer.stores.sites.get, int(site.rsplit("/", 1)[1]))

    assert (stored.host, stored.user_name) == ("ftp.mosslane.example", "seedlib")
    assert portal.call(maren.nailer.stores.sites.secrets, stored).password == " sow-and-reap "


def test_no_page_shows_a_secret(maren: Visitor) -> None:
    site = maren.open_site()

    for address in ("/sites", f"{site}/settings", f"{site}/files", "/jobs"):
        assert "sow-and-reap" not in maren.get(address).text


def test_a_pasted_fingerprint_that_is_another_trusts_nothing(maren: Visitor) -> None:
    site = maren.add_site()
    met = maren.post(f"{site}/open")
    key = re.search(r'name="public_key"\s+value="([^"]+)"', met.text)
    assert key

    refused = maren.post_form(f"{site}/trust", public_key=key[1], how="always", published="SHA256:something else")

    assert (refused.status_code, "Nothing was trusted" in refused.text) == (409, True)
    assert "First connection" in maren.post(f"{site}/open").text
    assert maren.host.sign_ins == 0


def test_a_changed_key_stops_until_a_person_says_that_the_host_confirmed_it(maren: Visitor) -> None:
    site = maren.open_site()
    portal = maren.client.portal
    assert portal is not None
    portal.call(maren.host.stop)
    maren.host.host_key = type(maren.host)(maren.there, "x").host_key
    portal.call(maren.host.start)
    portal.call(maren.nailer.sites.pool.close_site, 1)
    portal.call(maren.nailer.sites.pool.close_site, int(site.rsplit("/", 1)[1]))

    met = maren.post(f"{site}/open")
    assert "different identity" in met.text
    assert "The server identity has changed" in maren.get("/sites").text
    key = re.search(r'name="public_key"\s+value="([^"]+)"', met.text)
    assert key
    assert maren.post_form(f"{site}/trust", public_key=key[1], how="always").status_code == 409
    maren.post_form(f"{site}/trust", public_key=key[1], how="always", changed_understood="yes")

    assert maren.post(f"{site}/open").json() == {"ok": True}


def test_the_ledger_shows_each_name_once_with_its_joint(maren: Visitor) -> None:
    write(maren.here, "index.html", "newer", NOON_S + 900)
    write(maren.there, "index.html", "old")
    write(maren.there, "only-there.txt")
    site = maren.open_site()

    page = maren.get(f"{site}/files").text

    assert page.count('data-name="index.html"') == 1
    assert 'aria-label="newer here, ' in page
    assert 'aria-label="only there"' in page
    assert "mosslane.example/" in page


def test_windows_of_a_long_ledger_fit_together(maren: Visitor) -> None:
    for number in range(450):
        (maren.there / f"plate-{number}").touch()
    site = maren.open_site()

    found = []
    for offset in range(0, 600, 100):
        part = maren.get(f"{site}/ledger?{PAIR}&offset={offset}&limit=100").text
        found += re.findall(r'data-name="(plate-\d+)"', part)

    assert found == [f"plate-{number}" for number in range(450)]
    names = maren.client.get(f"{site}/names?{PAIR}&from=10&to=12").json()
    assert names == ["plate-10", "plate-11", "plate-12"]


@pytest.mark.parametrize(
    "query", ["here=/studio/../..&there=/", "here=/studio&there=/%00", "there=/htdocs", "here=/studio&there=/&offset=x"]
)
def test_bad_paths_are_refused_in_words(maren: Visitor, query: str) -> None:
    site = maren.open_site()

    response = maren.client.get(f"{site}/ledger?{query}")

    assert response.status_code == 422
    assert response.json()["what"]


def test_upload_and_download_over_http(maren: Visitor) -> None:
    write(maren.here, "up.txt", "going up")
    write(maren.there, "down/a.txt", "coming down")
    site = maren.open_site()

    assert transfer(maren, site, "there", "up.txt") is JobState.DONE
    assert transfer(maren, site, "here", "down") is JobState.DONE

    assert tree(maren.here) == tree(maren.there)
    receipts = maren.get("/jobs").text
    assert "Upload of up.txt" in receipts


def test_a_guarded_folder_is_changed_only_on_a_second_word(maren: Visitor) -> None:
    write(maren.here, "mail/inbox", "mine")
    site = maren.open_site()
    job = plan_of(maren.post(f"{site}/plans/transfer", wish("mail", to_side="there")).text)

    refused = maren.post(f"/plans/{job}/carry-out", {"choice": "replace"})
    assert (refused.status_code, "guarded" in refused.json()["what"]) == (409, True)
    assert tree(maren.there) == {}
    maren.post(f"/plans/{job}/carry-out", {"choice": "replace", "guarded_confirmed": True})

    assert ended(maren, job) is JobState.DONE


def test_a_plan_that_is_put_away_is_gone_and_cannot_be_carried_out(maren: Visitor) -> None:
    write(maren.here, "a.txt")
    site = maren.open_site()
    job = plan_of(maren.post(f"{site}/plans/transfer", wish("a.txt", to_side="there")).text)

    assert maren.post(f"/plans/{job}/put-away").json() == {"ok": True}
    assert maren.post(f"/plans/{job}/carry-out", {"choice": "replace"}).status_code == 404


def test_new_folder_rename_and_taking_the_rename_back(maren: Visitor) -> None:
    write(maren.there, "old.txt", "content")
    site = maren.open_site()

    assert maren.post(f"{site}/folders", {"side": "there", "folder": THERE, "name": " img "}).status_code == 200
    assert maren.post(f"{site}/folders", {"side": "there", "folder": THERE, "name": "img"}).status_code == 409
    assert maren.post(f"{site}/folders", {"side": "there", "folder": THERE, "name": "a/b"}).status_code == 422
    body = {"side": "there", "path": f"{THERE}/old.txt", "name": "new.txt"}
    assert maren.post(f"{site}/rename", body).status_code == 200
    assert sorted(os.listdir(maren.there)) == ["img", "new.txt"]

    changes = maren.get(f"{site}/changes").text
    first = re.search(r'data-take-back="(\d+)"', changes)
    assert first
    assert maren.post(f"{site}/changes/{first[1]}/take-back").json() == {"job": None}

    assert sorted(os.listdir(maren.there)) == ["img", "old.txt"]


def test_a_file_comes_down_as_an_attachment_that_no_browser_opens(maren: Visitor) -> None:
    data = b"<script>alert(1)</script>" * 40_000
    write(maren.there, "page.html", data)
    site = maren.open_site()

    response = maren.client.get(f"{site}/fetch?side=there&path={THERE}/page.html")

    assert response.content == data
    assert response.headers["content-type"] == "application/octet-stream"
    assert response.headers["content-disposition"].startswith("attachment")
    assert "sandbox" in response.headers["content-security-policy"]
    assert response.headers["content-length"] == str(len(data))


def test_odd_names_cannot_break_the_download_header(maren: Visitor) -> None:
    name = 'a"\r\nSet-Cookie: x=1\n.txt'
    write(maren.there, name)
    site = maren.open_site()

    response = maren.client.get(f"{site}/fetch", params={"side": "there", "path": f"{THERE}/{name}"})

    assert response.status_code == 200
    assert "set-cookie" not in response.headers


def test_several_names_come_down_as_a_zip(maren: Visitor) -> None:
    write(maren.there, "a.txt", "a")
    write(maren.there, "img/b.svg", b"b" * 300_000)
    (maren.there / "img" / "empty").mkdir()
    (maren.there / "img" / "link").symlink_to("/etc/passwd")
    site = maren.open_site()

    response = maren.client.get(f"{site}/fetch?side=there&path={THERE}&names=a.txt/img")

    archive = zipfile.ZipFile(io.BytesIO(response.content))
    assert archive.testzip() is None
    assert sorted(archive.namelist()) == ["NOT-INCLUDED.txt", "a.txt", "img/", "img/b.svg", "img/empty/"]
    assert archive.read("img/b.svg") == b"b" * 300_000
    assert b"link" in archive.read("NOT-INCLUDED.txt")


def drop(maren: Visitor, site: str, files: dict[str, bytes], *, side: str = "there", **sizes: int) -> dict[str, Any]:
    """Offer files, confirm, send each; return what became of each."""
    folder = THERE if side == "there" else HERE
    offered = [
        {"below": name.split("/"), "size": sizes.get(name.split(".")[0], len(data)), "modified_ms": NOON_S * 1000}
        for name, data in files.items()
    ]
    plan = maren.post(f"{site}/plans/drop", {"to_side": side, "folder": folder, "files": offered})
    assert plan.status_code == 200, plan.text
    job = plan_of(plan.text)
    maren.post(f"/plans/{job}/carry-out", {"choice": "replace"})
    items = maren.post(f"/drops/{job}/begin").json()["items"]
    headers = {"x-csrf": maren.csrf}
    problems = {
        name: maren.client.put(f"/drops/{job}/items/{item}", content=files[name], headers=headers).json()["problem"]
        for name, item in items.items()
    }
    return {"problems": problems, "state": ended(maren, job), "job": job}


def test_several_names_come_down_as_a_tar_with_permissions_and_every_byte_of_a_name(maren: Visitor) -> None:
    site = maren.open_site()
    script = write(maren.there, "site/run.cgi", "#!/bin/sh\n" * 200)
    script.chmod(0o755)
    odd = os.fsdecode(b"site/caf\xe9.txt")
    write(maren.there, odd, "odd")

    answer = maren.client.get(f"{site}/fetch?side=there&path=/htdocs&names=site&as=tar")

    assert "htdocs.tar.gz" in answer.headers["content-disposition"]
    with tarfile.open(fileobj=io.BytesIO(answer.content)) as archive:
        assert set(archive.getnames()) == {"site", "site/run.cgi", odd}
        member = archive.getmember("site/run.cgi")
        assert (member.mode, int(member.mtime)) == (0o755, NOON_S)
        content = archive.extractfile(member)
        assert content is not None
        assert content.read() == script.read_bytes()


@pytest.mark.parametrize("side", ["here", "there"])
def test_dropped_files_and_folders_land_with_their_time(maren: Visitor, side: str) -> None:
    site = maren.open_site()
    files = {"note.txt": b"hello", "skin/deep/tile.svg": b"x" * 700_000, "empty.txt": b""}

    result = drop(maren, site, files, side=side)

    target = maren.there if side == "there" else maren.here
    assert result["state"] is JobState.DONE
    assert tree(target) == files
    assert (target / "note.txt").stat().st_mtime == NOON_S


def test_a_drop_keeps_what_it_replaces(maren: Visitor) -> None:
    write(maren.there, "note.txt", "the old note", NOON_S - 9000)
    site = maren.open_site()

    drop(maren, site, {"note.txt": b"the new note"})

    changes = maren.get(f"{site}/changes").text
    change = re.search(r'data-take-back="(\d+)"', changes)
    assert change
    job = maren.post(f"{site}/changes/{change[1]}/take-back").json()["job"]
    ended(maren, str(job))
    assert tree(maren.there) == {"note.txt": b"the old note"}


def test_a_dropped_file_that_is_cut_short_does_not_land(maren: Visitor) -> None:
    site = maren.open_site()

    result = drop(maren, site, {"note.txt": b"half"}, note=4000)

    assert "4 of 4000 bytes" in result["problems"]["note.txt"]
    assert result["state"] is JobState.NEEDS_YOU
    assert tree(maren.there) == {}


@pytest.mark.parametrize("below", [["..", "x"], ["a/b"], [""], ["a", "."], ["x\0"]])
def test_dropped_names_cannot_climb(maren: Visitor, below: list[str]) -> None:
    site = maren.open_site()
    wanted = {"to_side": "here", "folder": HERE, "files": [{"below": below, "size": 1}]}

    assert maren.post(f"{site}/plans/drop", wanted).status_code == 422


def test_the_inspector_says_what_will_happen(maren: Visitor) -> None:
    write(maren.here, "index.html", "newer", NOON_S + 900)
    write(maren.there, "index.html", "old")
    site = maren.open_site()

    text = maren.post(f"{site}/inspect", wish("index.html")).text

    assert "Upload replaces index.html there" in text
    assert "The owner can change it; everyone can read it." in text
    assert "mosslane.example/index.html" in text


def test_a_folder_rolls_up_after_it_was_compared(maren: Visitor) -> None:
    write(maren.here, "img/a.svg", "newer", NOON_S + 900)
    write(maren.there, "img/a.svg", "old")
    site = maren.open_site()
    assert 'aria-label="not read"' in maren.get(f"{site}/files").text

    assert maren.post(f"{site}/roll-up", wish()).json() == {"changed": True}

    page = maren.get(f"{site}/files").text
    assert 'aria-label="newer here"' in page
    assert "1 file" in page
    assert maren.post(f"{site}/roll-up", wish()).json() == {"changed": False}


def test_a_site_is_removed_only_by_its_name(maren: Visitor) -> None:
    site = maren.open_site()

    assert maren.post_form(f"{site}/remove", confirm_name="moss lane").status_code == 409
    maren.post_form(f"{site}/remove", confirm_name="Moss Lane")

    assert "Add your first site" in maren.get("/sites").text


def test_typed_paths_and_pasted_addresses_lead_to_their_folder(maren: Visitor) -> None:
    write(maren.there, "img/pier.svg")
    site = maren.open_site()

    for typed in ("/htdocs/img", "https://mosslane.example/img/", "https://mosslane.example/img/pier.svg"):
        response = maren.client.get(
            f"{site}/files", params={"side": "there", "go": typed}, headers={"accept": "text/html"}
        )
        assert 'data-here="/studio/moss/img" data-there="/htdocs/img"' in response.text
    elsewhere = maren.client.get(
        f"{site}/files", params={"go": "https://elsewhere.example/"}, headers={"accept": "text/html"}
    )
    assert "does not belong to a web address" in elsewhere.text


@pytest.mark.parametrize(
    ("asked", "status", "content"),
    [
        ("bytes=2-4", 206, b"cde"),
        ("bytes=7-", 206, b"hij"),
        ("bytes=7-999", 206, b"hij"),
        ("bytes=0-0", 206, b"a"),
        ("bytes=5-2", 200, b"abcdefghij"),
        ("bytes=-3", 200, b"abcdefghij"),
        ("bytes=0-1,4-5", 200, b"abcdefghij"),
        ("lines=1-2", 200, b"abcdefghij"),
        ("bytes=" + "9" * 5000 + "-", 200, b"abcdefghij"),
        ("bytes=²-3", 200, b"abcdefghij"),
        ("bytes=10-12", 416, b""),
    ],
)
def test_a_range_that_cannot_be_is_ignored(maren: Visitor, asked: str, status: int, content: bytes) -> None:
    write(maren.there, "plate.png", b"abcdefghij")
    site = maren.open_site()

    answer = maren.client.get(f"{site}/look/raw?side=there&path=/htdocs/plate.png", headers={"range": asked.encode()})

    assert (answer.status_code, answer.content) == (status, content)


def test_a_link_that_leads_out_of_the_roots_is_refused(maren: Visitor) -> None:
    (maren.here / "out").symlink_to("/etc")
    site = maren.open_site()

    answer = maren.client.get(f"{site}/fetch?side=here&path=/studio/moss/out/passwd")

    assert (answer.status_code, "root:" in answer.text) == (403, False)
