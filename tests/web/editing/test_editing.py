"""Editing, permissions, renames with references and taking back, over HTTP."""

from __future__ import annotations

import re
import stat
import time

import pytest

from nailer.core.jobs.states import JobState
from tests.builders import tree, write
from tests.web.conftest import Visitor
from tests.web.files.test_files import HERE, THERE, ended, plan_of, transfer, wish

EDIT = "/edit?side=there&path=/htdocs/"


def open_file(maren: Visitor, site: str, name: str) -> str:
    """Open a file in the editor; return its draft's address."""
    page = maren.get(f"{site}{EDIT}{name}")
    assert page.status_code == 200, page.text
    found = re.search(r'data-draft="(\d+)"', page.text)
    assert found, page.text
    return f"/drafts/{found[1]}"


def save(maren: Visitor, draft: str, text: str, **more: bool):  # type: ignore[no-untyped-def]
    return maren.post(
        f"{draft}/save", {"text": text, "history": None, "based_on": version(maren, draft), **more}
    ).json()


def version(maren: Visitor, draft: str) -> str:
    """The version that a page which opens the file now begins with."""
    found: str = maren.post(f"{draft}/text", {"text": "", "history": None, "based_on": "asks"}).json()["version"]
    return found


def test_a_file_is_opened_changed_and_saved(maren: Visitor) -> None:
    site = maren.open_site()
    write(maren.there, "site.css", "a {}\n")
    draft = open_file(maren, site, "site.css")

    assert maren.post(f"{draft}/text", {"text": "b {}\n", "history": None}).json()["has_changes"] is True
    assert "/htdocs/site.css" in maren.get("/drafts").text
    told = save(maren, draft, "c {}\n")

    assert told["done"]
    assert tree(maren.there) == {"site.css": b"c {}\n"}
    beside = maren.get(f"{draft}/beside").text
    assert "Restore in the editor" in beside
    change = re.search(r'data-put="(\d+)"', beside)
    assert change
    assert maren.client.get(f"{draft}/versions/{change[1]}").json() == {"text": "a {}\n"}
    assert "a {}" in maren.get(f"{draft}/compare/{change[1]}/now").text
    assert maren.client.get(f"{draft}/versions/9999").status_code == 404


def test_two_changes_of_one_file_meet_and_are_merged(maren: Visitor) -> None:
    site = maren.open_site()
    write(maren.there, "site.css", "a\nb\nc\n")
    draft = open_file(maren, site, "site.css")
    write(maren.there, "site.css", "theirs\nb\nc\n")

    told = save(maren, draft, "mine\nb\nC\n")
    assert (told["done"], told["merge"]) == (False, True)
    sheet = maren.get(f"{draft}/merge").text
    assert "1 place changed on both sides" in sheet
    assert maren.post(f"{draft}/settle", {"text": "mine\nb\nC\n", "history": None}).json()["base"] == "theirs\nb\nc\n"
    assert save(maren, draft, "mine\nb\nC\n")["done"]
    assert tree(maren.there) == {"site.css": b"mine\nb\nC\n"}


def test_a_line_in_the_address_is_gone_to(maren: Visitor) -> None:
    site = maren.open_site()
    write(maren.there, "site.css", "a\nb\n")

    page = maren.get(f"{site}{EDIT}site.css:2")

    assert page.url.query.decode().endswith("line=2")
    assert 'data-line="2"' in page.text
    assert maren.get(f"{site}{EDIT}none.css").status_code == 404


def test_what_is_no_text_is_shown_with_what_can_be_done(maren: Visitor) -> None:
    site = maren.open_site()
    write(maren.there, "pier.png", b"\x89PNG\r\n\0")

    page = maren.get(f"{site}{EDIT}pier.png").text

    assert "is not a text file" in page
    assert "Save it to this computer" in page


def test_the_text_is_checked_while_it_is_typed(maren: Visitor) -> None:
    site = maren.open_site()
    write(maren.there, "index.html", "<p>")
    draft = open_file(maren, site, "index.html")

    found = maren.post(f"{draft}/check", {"text": '<div><img src="none.png">', "history": None}).json()["findings"]

    assert [(one["severity"], one["message"]) for one in found] == [
        ("error", "<div> has no end tag"),
        ("warning", "/htdocs/none.png is not there"),
    ]


def test_a_new_file_is_a_draft_until_it_is_saved(maren: Visitor) -> None:
    site = maren.open_site()
    told = maren.post(
        f"{site}/new-file", {"side": "there", "folder": THERE, "name": "winter-fares.html", "template": "page"}
    ).json()
    draft = open_file(maren, site, "winter-fares.html")
    assert tree(maren.there) == {}
    assert told["href"].endswith("/htdocs/winter-fares.html")

    assert save(maren, draft, "<!doctype html><title>Winter fares</title>")["done"]
    assert set(tree(maren.there)) == {"winter-fares.html"}
    taken = maren.post(f"{site}/new-file", {"side": "there", "folder": THERE, "name": "a/b"})
    assert taken.status_code == 422


def test_a_guarded_folder_is_not_written_to_by_the_editor(maren: Visitor) -> None:
    site = maren.open_site()
    write(maren.there, "mail/box.txt", "a")
    draft = open_file(maren, site, "mail/box.txt")

    assert (
        maren.post(f"{draft}/save", {"text": "b", "history": None, "based_on": version(maren, draft)}).status_code
        == 409
    )
    assert tree(maren.there) == {"mail/box.txt": b"a"}


def test_nobody_reads_anothers_draft(maren: Visitor) -> None:
    site = maren.open_site()
    write(maren.there, "a.txt", "a")
    draft = open_file(maren, site, "a.txt")
    maren.client.portal.call(maren.nailer.people.accounts.make, "tam", "a-longer-password")  # type: ignore[union-attr]
    maren.client.cookies.clear()
    maren.client.post("/sign-in", data={"name": "tam", "password": "a-longer-password"})

    assert maren.client.get(f"{draft}/versions/now").status_code == 404
    assert maren.post(f"{draft}/text", {"text": "b", "history": None}).status_code == 404


def test_signing_out_with_drafts_lists_them_first(maren: Visitor) -> None:
    site = maren.open_site()
    write(maren.there, "a.txt", "a")
    draft = open_file(maren, site, "a.txt")
    maren.post(f"{draft}/text", {"text": "b", "history": None})

    page = maren.post_form("/sign-out").text
    assert "1 draft that is not saved" in page
    maren.post_form("/sign-out", sure="1")
    assert "/sign-in" in str(maren.get("/sites").url)


def test_how_a_file_is_stored_can_be_changed(maren: Visitor) -> None:
    site = maren.open_site()
    write(maren.there, "a.txt", b"caf\xe9\r\n")
    draft = open_file(maren, site, "a.txt")

    told = maren.post(f"{draft}/store-as", {"encoding": "utf-8", "mark": True, "line_end": "\n"}).json()
    assert told["words"] == "UTF-8 with BOM, LF"
    assert save(maren, draft, "café\n")["done"]
    assert (maren.there / "a.txt").read_bytes() == "\ufeffcafé\n".encode()


def test_a_rename_rewrites_what_refers_and_shows_it_first(maren: Visitor) -> None:
    site = maren.open_site()
    write(maren.there, "index.html", '<a href="fares.html">')
    write(maren.there, "fares.html", "x")

    body = {"side": "there", "path": f"{THERE}/fares.html", "name": "prices.html"}
    dialog = maren.post(f"{site}/plans/rename", body).text
    assert "1 renamed, 1 changed" in dialog
    assert "1 reference in 1 file" in dialog
    job = plan_of(dialog)
    item = re.search(r'data-sheet="differences"\s+value="(\d+)"', dialog)
    assert item
    assert "prices.html" in maren.get(f"/plans/{job}/differences/{item[1]}").text
    maren.post(f"/plans/{job}/carry-out", {"choice": "replace"})
    assert ended(maren, job) is JobState.DONE
    assert tree(maren.there) == {"index.html": b'<a href="prices.html">', "prices.html": b"x"}


def test_a_removal_says_what_will_lead_nowhere(maren: Visitor) -> None:
    site = maren.open_site()
    write(maren.there, "index.html", '\n<a href="fares.html">')
    write(maren.there, "fares.html", "x")

    dialog = maren.post(f"{site}/plans/remove", wish("fares.html", side="there")).text
    lazy = re.search(r'data-lazy="([^"]+/references)"', dialog)
    assert lazy
    told = maren.get(lazy[1]).text

    assert "1 reference" in told
    assert "line 2" in told


def test_names_that_hurt_are_renamed_here_before_they_go_up(maren: Visitor) -> None:
    site = maren.open_site()
    write(maren.here, "Pier End.html", "x")
    write(maren.here, "index.html", '<a href="Pier%20End.html">')
    dialog = maren.post(f"{site}/plans/transfer", wish("Pier End.html", "index.html", to_side="there")).text
    assert 'data-test="rename-hurting"' in dialog

    renaming = maren.post(f"/plans/{plan_of(dialog)}/rename-hurting").text
    job = plan_of(renaming)
    maren.post(f"/plans/{job}/carry-out", {"choice": "replace"})

    assert ended(maren, job) is JobState.DONE
    assert tree(maren.here) == {"pier-end.html": b"x", "index.html": b'<a href="pier-end.html">'}


def test_permissions_of_many_are_counted_set_and_taken_back(maren: Visitor) -> None:
    site = maren.open_site()
    write(maren.there, "a.html", "x").chmod(0o666)
    write(maren.there, "run.cgi", "x").chmod(0o644)
    page = maren.get(f"{site}/permissions?side=there&path=/htdocs").text
    token = re.search(r'data-token="(\w+)"', page)
    assert token
    assert "anyone could write" in page

    body = {"files": "u=rw,go=r", "folders": "", "by_purpose": True, "only_risky": True}
    rows = maren.post(f"/permissions/{token[1]}/preview", body).text
    assert 'data-changing="2"' in rows
    assert maren.post(f"/permissions/{token[1]}/preview", body | {"files": "u=q"}).status_code == 422
    job = maren.post(f"/permissions/{token[1]}/carry-out", body).json()["job"]
    assert ended(maren, str(job)) is JobState.DONE
    modes = {one.name: stat.S_IMODE(one.stat().st_mode) for one in maren.there.iterdir()}
    assert modes == {"a.html": 0o644, "run.cgi": 0o755}
    back = plan_of(maren.post(f"/jobs/{job}/plans/take-back").text)
    maren.post(f"/plans/{back}/carry-out", {"choice": "replace"})
    assert ended(maren, back) is JobState.DONE
    assert stat.S_IMODE((maren.there / "a.html").stat().st_mode) == 0o666


@pytest.mark.parametrize(
    ("text", "octal"), [("755", "755"), ("rw-r-----", "640"), ("g-r,o+x", "605"), ("u=rwX,go=rX", "644")]
)
def test_each_form_of_permissions_reads_in_the_others(maren: Visitor, text: str, octal: str) -> None:
    found = maren.client.get("/permissions/read", params={"text": text, "now": "644", "folder": "0"}).json()

    assert found["octal"] == octal
    assert maren.client.get("/permissions/read", params={"text": found["rwx"]}).json()["octal"] == octal
    assert maren.client.get("/permissions/read", params={"text": found["symbolic"]}).json()["octal"] == octal
    assert maren.client.get("/permissions/read", params={"text": "u=q"}).status_code == 422


def test_one_name_is_set_from_the_inspector(maren: Visitor) -> None:
    site = maren.open_site()
    file = write(maren.there, "a.html", "x")
    file.chmod(0o644)

    body = {"side": "there", "path": f"{THERE}/a.html", "octal": "640"}
    job = maren.post(f"{site}/permissions/one", body).json()["job"]

    assert ended(maren, str(job)) is JobState.DONE
    assert stat.S_IMODE(file.stat().st_mode) == 0o640
    assert maren.post(f"{site}/permissions/one", body).status_code == 422


def test_the_server_unpacks_its_archive_and_doing_nothing_leaves_nothing(maren: Visitor) -> None:
    site = maren.open_site()
    maren.host.shell = True
    import tarfile

    write(maren.here, "x/a.css", "a")
    with tarfile.open(maren.there / "skin.tar.gz", "w:gz") as archive:
        archive.add(maren.here / "x", "skin")
    dialog = maren.post(f"{site}/plans/unpack-there", wish("skin.tar.gz")).text
    assert 'data-test="staged"' in dialog
    maren.post(f"/plans/{plan_of(dialog)}/put-away")
    assert [one.name for one in maren.there.iterdir()] == ["skin.tar.gz"]

    again = plan_of(maren.post(f"{site}/plans/unpack-there", wish("skin.tar.gz")).text)
    maren.post(f"/plans/{again}/carry-out", {"choice": "replace"})
    assert ended(maren, again) is JobState.DONE
    deadline = time.monotonic() + 10
    while list(maren.there.glob(".nailer*")) and time.monotonic() < deadline:
        time.sleep(0.05)
    assert set(tree(maren.there)) == {"skin.tar.gz", "skin/a.css"}


def test_names_are_packed_here_over_http(maren: Visitor) -> None:
    site = maren.open_site()
    write(maren.here, "a.html", "x")

    assert maren.post(f"{site}/pack", wish("a.html", name="all.zip")).json() == {"ok": True}
    assert (maren.here / "all.zip").read_bytes().startswith(b"PK")
    assert maren.post(f"{site}/pack", wish("a.html", name="all.zip")).status_code == 409
    assert HERE.endswith("moss")


def test_the_changes_of_a_site_are_found_compared_and_taken_back(maren: Visitor) -> None:
    site = maren.open_site()
    write(maren.there, "site.css", "old\n")
    draft = open_file(maren, site, "site.css")
    save(maren, draft, "new and longer\n")
    page = maren.get(f"{site}/changes?q=site.css&side=there").text
    since = re.search(r'data-since="(\d+)"', page)
    assert since, page
    assert 'data-since="' not in maren.get(f"{site}/changes?q=nothing-like-it").text
    assert "new and longer" in maren.get(f"{site}/changes/{since[1]}/difference").text

    plan = plan_of(maren.post(f"{site}/changes/{since[1]}/plans/since").text)
    maren.post(f"/plans/{plan}/carry-out", {"choice": "replace"})

    assert ended(maren, plan) is JobState.DONE
    assert tree(maren.there) == {"site.css": b"old\n"}


def test_kept_copies_are_held_to_limits(maren: Visitor) -> None:
    site = maren.open_site()
    maren.post_form(f"{site}/keeping", days="30", most="2 GB")
    page = maren.get(f"{site}/changes").text

    assert 'name="days" value="30"' in page
    assert 'name="most" value="2.0 GB"' in page
    assert maren.post_form(f"{site}/keeping", days="-1").status_code == 422


def test_checks_show_scripts_and_risks_and_mend_them(maren: Visitor) -> None:
    site = maren.open_site()
    write(maren.there, "cgi-bin/run.cgi", "#!/bin/sh\necho\n").chmod(0o666)
    assert maren.get(f"{site}/checks").status_code == 200
    assert "run.cgi" in maren.get(f"{site}/checks/scripts").text
    shown = maren.get(f"{site}/checks/script?path={THERE}/cgi-bin/run.cgi").text
    assert 'data-repair="permissions"' in shown
    assert "anyone can write" in maren.get(f"{site}/checks/permissions").text

    job = maren.post(f"{site}/checks/repair", {"path": f"{THERE}/cgi-bin/run.cgi", "repair": "permissions"}).json()[
        "job"
    ]

    assert ended(maren, str(job)) is JobState.DONE
    assert "No risky permissions" in maren.get(f"{site}/checks/permissions").text


def test_how_a_site_is_edited_is_stored_and_checked(maren: Visitor) -> None:
    site = maren.open_site()
    maren.post_form(f"{site}/ways", guarded_save="on", watched="https://mosslane.example/\n")
    page = maren.get(f"{site}/settings").text

    assert 'name="guarded_save" checked' in page
    assert "https://mosslane.example/</textarea>" in page
    assert maren.post_form(f"{site}/ways", watched="file:///etc/passwd").status_code == 422


def test_a_removal_says_what_else_knows_the_content(maren: Visitor) -> None:
    site = maren.open_site()
    write(maren.here, "a.html", "same")
    transfer(maren, site, "there", "a.html")
    write(maren.here, "b.html", "here")
    write(maren.there, "b.html", "there, other")
    write(maren.there, "c.html", "only there")
    write(maren.there, "stays.html", "so that not everything goes")

    plan = plan_of(maren.post(f"{site}/plans/remove", wish("a.html", "b.html", "c.html", side="there")).text)

    told = maren.get(f"/plans/{plan}/known").text
    assert "1 with a different version there" in told
    assert "this is the only copy" in told
    assert 'name="typed"' in told
    assert maren.post(f"/plans/{plan}/carry-out", {"choice": "replace"}).status_code == 422
    maren.post(f"/plans/{plan}/carry-out", {"choice": "replace", "typed": "c.html"})
    assert ended(maren, plan) is JobState.DONE


def test_what_the_web_serves_is_removed_only_when_its_name_is_typed(maren: Visitor) -> None:
    site = maren.add_site(start_there="/", web_folder_0="/htdocs")
    maren.open_site_at(site)
    write(maren.there, "index.html", "x")
    body = {"here": HERE, "there": "/", "names": ["htdocs"], "side": "there"}
    plan = plan_of(maren.post(f"{site}/plans/remove", body).text)
    told = maren.get(f"/plans/{plan}/known").text
    assert 'name="typed"' in told
    assert "https://mosslane.example/" in told

    go = {"choice": "replace", "guarded_confirmed": True}
    assert maren.post(f"/plans/{plan}/carry-out", go).status_code == 422
    assert maren.post(f"/plans/{plan}/carry-out", go | {"typed": "htdoc"}).status_code == 422
    assert tree(maren.there) == {"index.html": b"x"}
    assert maren.post(f"/plans/{plan}/carry-out", go | {"typed": "htdocs"}).status_code == 200
    assert ended(maren, plan) is JobState.DONE
    assert not maren.there.exists()


def test_an_upload_shows_what_visitors_get_and_which_scripts_stay_idle(maren: Visitor) -> None:
    site = maren.open_site()
    maren.nailer.settings.routes["mosslane.example:443"] = "127.0.0.1:1"
    write(maren.here, "index.html", "new")
    write(maren.here, "run.cgi", "#!/bin/sh\n", 1_700_000_000)
    write(maren.there, "run.cgi", "#!/bin/sh\n# old\n").chmod(0o644)
    dialog = maren.post(f"{site}/plans/transfer", wish("index.html", "run.cgi", to_side="there")).text
    assert "1 script" in dialog
    plan = plan_of(dialog)
    maren.post(f"/plans/{plan}/carry-out", {"choice": "replace"})
    assert ended(maren, plan) is JobState.DONE

    told = maren.get(f"/jobs/{plan}/live").text

    assert "/htdocs/index.html" in told
    assert "The address does not answer" in told
    assert f"/jobs/{plan}/live" in maren.get(f"/jobs/{plan}").text


def test_two_pages_of_one_person_do_not_overwrite_each_other(maren: Visitor) -> None:
    """A save says which version its text began as: the second page is asked to merge, whatever the draft says by then."""
    site = maren.open_site()
    write(maren.there, "two.html", "one\ntwo\nthree\n")
    draft = open_file(maren, site, "two.html")
    began = version(maren, draft)
    first = maren.post(f"{draft}/save", {"text": "ONE\ntwo\nthree\n", "history": None, "based_on": began}).json()
    assert first["done"]

    late = {"text": "one\ntwo\nTHREE\n", "history": None, "based_on": began}
    refused = maren.post(f"{draft}/save", late).json()
    typed = maren.post(f"{draft}/text", late).json()
    merging = maren.post(f"{draft}/save", late | {"base": "one\ntwo\nthree\n"}).json()

    assert refused["stale"]
    assert not refused["done"]
    assert typed["stale"]
    assert merging["merge"]
    assert (maren.there / "two.html").read_text() == "ONE\ntwo\nthree\n", "nothing of the first page is lost"
    assert maren.post(f"{draft}/save", {"text": "x", "history": None}).status_code == 422, "a save must say it"


def test_a_rename_is_told_what_refers_to_the_name(maren: Visitor) -> None:
    write(maren.there, "a.html", "<p>a</p>")
    write(maren.there, "b.html", '<a href="a.html">a</a> <a href="/a.html">again</a>')
    site = maren.open_site()

    some = maren.get(f"{site}/references?side=there&path=/htdocs/a.html").json()
    none = maren.get(f"{site}/references?side=there&path=/htdocs/b.html").json()
    outside = maren.get(f"{site}/references?side=there&path=/logs/a").json()

    assert (some["count"], some["text"]) == (2, "2 references in 1 file: b.html")
    assert (none["count"], "links to it" in none["text"]) == (0, True)
    assert (outside["count"], "outside" in outside["text"]) == (0, True)
