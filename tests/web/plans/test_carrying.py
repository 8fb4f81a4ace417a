"""Jobs, limits, search, looking at files, archives and copies, over HTTP."""

from __future__ import annotations

import csv
import io
import json
import re
import time
import zipfile

import pytest

from nailer.core.jobs.states import JobState
from nailer.standins.faults import Full
from nailer.standins.mail import MailHost
from tests.builders import tree, write
from tests.web.conftest import Visitor
from tests.web.files.test_files import HERE, THERE, ended, plan_of, transfer, wish


def test_limits_are_set_shown_and_refused_in_words(maren: Visitor) -> None:
    body = {"up": "4 MB/s", "down": "", "hours": "22:00-06:00 up 8 MB/s"}
    assert maren.post("/jobs/limits", body).json()["up"] == "4 MB/s"
    page = maren.get("/jobs").text
    assert 'value="4 MB/s"' in page
    assert "22:00-06:00 up 8 MB/s" in page

    refused = maren.post("/jobs/limits", {"up": "quick"})

    assert refused.status_code == 422
    assert "is not a speed" in refused.json()["what"]
    assert 'value="4 MB/s"' in maren.get("/jobs").text, "what was refused changed nothing"
    assert maren.post("/jobs/limits", {"site_id": 99}).status_code == 404
    site = int(maren.add_site().rsplit("/", 1)[1])
    maren.post("/jobs/limits", {"site_id": site, "down": "1 MB/s"})
    assert maren.client.get(f"/jobs/limits?site={site}").json() == {"up": "", "down": "1 MB/s", "hours": ""}
    assert maren.client.get("/jobs/limits").json()["up"] == "4 MB/s"


def test_a_job_without_room_says_what_can_be_done_and_goes_on_after(maren: Visitor) -> None:
    site = maren.open_site()
    write(maren.here, "a.bin", b"a" * 90_000)
    maren.host.fault = Full(50_000)

    assert transfer(maren, site, "there", "a.bin") is JobState.NEEDS_YOU
    page = maren.get("/jobs?show=needs-you").text
    assert "1 file (90.0 kB)" in page
    assert "/htdocs/a.bin" in page
    assert ".part" not in page, "people know the file by its own name"
    assert 'data-test="what-fills"' in page
    assert tree(maren.there) == {}

    maren.host.fault = Full(10**9)
    job = re.search(r'data-job="(\d+)"', page)
    assert job
    assert maren.post(f"/jobs/{job[1]}/again").status_code == 200
    assert ended(maren, job[1]) is JobState.DONE
    assert tree(maren.there) == {"a.bin": b"a" * 90_000}


def test_a_plan_says_what_is_short(maren: Visitor, monkeypatch: pytest.MonkeyPatch) -> None:
    from nailer.core.plans.room import Room
    from nailer.sides.sftp.side import SftpSide

    async def little(self: SftpSide, folder: object) -> Room:
        return Room(100_000, 50_000)

    monkeypatch.setattr(SftpSide, "room", little)
    site = maren.open_site()
    write(maren.here, "a.bin", b"a" * 90_000)

    plan = maren.post(f"{site}/plans/transfer", wish("a.bin", to_side="there")).text

    assert "Short by 40.0 kB" in plan


def test_ended_jobs_are_searched_and_written_as_a_table(maren: Visitor) -> None:
    site = maren.open_site()
    for name in ("apples.txt", "=cmd.txt"):
        write(maren.here, name, name)
        assert transfer(maren, site, "there", name) is JobState.DONE

    assert "Upload of apples.txt" in maren.get("/jobs?show=ended&q=apples").text
    assert "Upload of =cmd.txt" not in maren.get("/jobs?show=ended&q=apples").text
    assert "Upload of" not in maren.get("/jobs?show=ended&q=%25_%25").text, "signs of patterns are letters"
    rows = list(csv.DictReader(io.StringIO(maren.get("/jobs.csv").text)))

    assert [row["done files"] for row in rows] == ["1", "1"]
    assert {row["folder"] for row in rows} == {"/htdocs"}
    assert all(not value.startswith(("=", "+", "@")) for row in rows for value in row.values())


def test_jobs_are_paused_moved_up_gone_on_with_and_stopped(maren: Visitor) -> None:
    site = maren.open_site()
    portal = maren.client.portal
    assert portal is not None
    portal.call(maren.nailer.engine.runner.stop)
    write(maren.here, "a.txt", "a")
    job = plan_of(maren.post(f"{site}/plans/transfer", wish("a.txt", to_side="there")).text)
    maren.post(f"/plans/{job}/carry-out", {"choice": "replace"})

    assert maren.post(f"/jobs/{job}/up").json()["state"] == "waiting"
    assert maren.post(f"/jobs/{job}/pause").json()["state"] == "paused"
    assert 'data-test="go-on"' in maren.get(f"/jobs/{job}/card").text
    assert maren.post(f"/jobs/{job}/leave-out").status_code == 409
    assert maren.post(f"/jobs/{job}/go-on").json()["state"] == "waiting"
    assert maren.post(f"/jobs/{job}/go-on").status_code == 409
    assert maren.post(f"/jobs/{job}/stop").json()["state"] == "stopped"


def test_a_mail_tells_when_all_is_done(maren: Visitor) -> None:
    mail = MailHost()
    mail.start()
    try:
        maren.nailer.plans.notices._post = maren.nailer.plans.notices._post.__class__(
            "127.0.0.1", mail.port, "nailer@studio.example"
        )
        assert maren.post("/jobs/when-done", {"mail": "not an address", "write": True}).status_code == 422
        wishes = {"mail": "maren@gorsegannet.example", "write": True, "close": True}
        assert maren.post("/jobs/when-done", wishes).status_code == 200
        site = maren.open_site()
        write(maren.here, "a.txt", "a")
        assert transfer(maren, site, "there", "a.txt") is JobState.DONE
        while not mail.letters or maren.nailer.sites.pool.open_lines:
            time.sleep(0.02)
    finally:
        mail.stop()

    (letter,) = mail.letters
    assert (letter["To"], letter["Subject"]) == ("maren@gorsegannet.example", "1 job finished")
    assert "done: Upload of a.txt (Moss Lane): 1 of 1 file" in letter.get_payload()
    assert "sow-and-reap" not in letter.as_string()


def test_a_search_streams_hits_and_plans_of_them(maren: Visitor) -> None:
    site = maren.open_site()
    write(maren.there, "news/a.html", "<p>Winter</p>")
    write(maren.there, "news/b.css", "p {}")
    write(maren.there, "news/.env", "KEY=1")
    assert "search-form" in maren.get(f"{site}/search?side=there").text

    answer = maren.client.get(f"{site}/search/hits?side=there&in=/htdocs&name=*.html&inside=winter")
    lines = [json.loads(line) for line in answer.text.splitlines()]

    (hit,) = [line for line in lines if "token" in line]
    assert (hit["below"], hit["line"]) == ("news/a.html", "<p>Winter</p>")
    assert lines[-1] == {"end": True}
    everything = maren.client.get(f"{site}/search/hits?side=there&in=/htdocs&kind=file").text.splitlines()
    held = {line["below"]: line["held"] for line in map(json.loads, everything) if "token" in line}
    assert held == {"news/a.html": "", "news/b.css": "", "news/.env": "Secrets"}
    body = {"here": HERE, "there": THERE, "side": "there", "paths": [hit["token"]]}
    job = plan_of(maren.post(f"{site}/plans/transfer-found", body).text)
    maren.post(f"/plans/{job}/carry-out", {"choice": "replace"})
    assert ended(maren, job) is JobState.DONE
    assert tree(maren.here) == {"news/a.html": b"<p>Winter</p>"}
    assert "removed there" in maren.post(f"{site}/plans/remove-found", body).text
    assert maren.client.get(f"{site}/search/hits?side=there&in=/htdocs&least=much").status_code == 422
    missing = maren.client.get(f"{site}/search/hits?side=there&in=/nowhere")
    assert json.loads(missing.text.splitlines()[0])["unread"]


def look_at(maren: Visitor, site: str, name: str) -> str:
    answer = maren.post(f"{site}/look", wish(name, side="there"))
    assert answer.status_code == 200, answer.text
    return str(answer.text)


def test_files_are_looked_at_without_carrying_them_whole(maren: Visitor) -> None:
    site = maren.open_site()
    write(maren.there, "page.html", "<script>alert(1)</script>\n" + "<p>long</p>\n" * 50_000)
    write(maren.there, "blob.bin", b"\0" * 50)
    write(maren.there, "pier.png", b"\x89PNG" * 20)
    with zipfile.ZipFile(maren.there / "big.zip", "w") as archive:
        archive.writestr("first.bin", bytes(3_000_000))
        archive.writestr("<b>last</b>.txt", "x")
    before = maren.host.bytes_passed

    page = look_at(maren, site, "page.html")
    names = look_at(maren, site, "big.zip")

    assert "<script>" not in page
    assert "the first 98.3 kB of 600" in page
    assert "first.bin" in names
    assert "<b>last" not in names
    assert maren.host.bytes_passed - before < 1_000_000, "neither was carried whole"
    assert 'data-look="other"' in look_at(maren, site, "blob.bin")
    assert "/look/raw?side=there" in look_at(maren, site, "pier.png")
    assert maren.post(f"{site}/look", wish("page.html", "blob.bin", side="there")).status_code == 422


def test_what_a_browser_shows_is_harmless_and_comes_in_ranges(maren: Visitor) -> None:
    site = maren.open_site()
    content = bytes(range(256)) * 20
    write(maren.there, "song.mp3", content)
    write(maren.there, "pier.svg", "<svg/>")
    write(maren.there, "page.html", "<script>1</script>")
    address = f"{site}/look/raw?side=there&path=/htdocs/"

    part = maren.client.get(address + "song.mp3", headers={"range": "bytes=100-199"})
    assert (part.status_code, part.content) == (206, content[100:200])
    assert part.headers["content-range"] == f"bytes 100-199/{len(content)}"
    assert maren.client.get(address + "song.mp3", headers={"range": "bytes=9999-"}).status_code == 416
    assert maren.client.get(address + "song.mp3").content == content
    svg = maren.client.get(address + "pier.svg")
    assert "sandbox" in svg.headers["content-security-policy"]
    assert maren.client.get(address + "page.html").status_code == 422


def an_archive() -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as archive:
        archive.writestr("harbour/skin.css", "blue")
        archive.writestr("harbour/.env", "secret")
        archive.writestr("../up.txt", "out")
    return out.getvalue()


def test_an_archive_is_unpacked_read_as_a_plan_and_narrowed(maren: Visitor) -> None:
    site = maren.open_site()
    token = maren.csrf
    put = maren.client.put(f"{site}/archives?name=skin.zip", content=an_archive(), headers={"x-csrf": token})
    assert put.status_code == 200, put.text
    found = put.json()
    assert found["left"] == ["../up.txt: leads out of the archive"]
    body = {"to_side": "there", "folder": THERE, "name": "skin.zip", **found}

    plan = maren.post(f"{site}/plans/unpack", body).text
    job = plan_of(plan)
    assert "2 new" in plan
    assert "1 item that should not be published: harbour/.env" in plan
    narrowed = maren.post(f"/plans/{job}/leave-out", {"what": "private"}).text
    assert "1 new" in narrowed
    other = plan_of(maren.post(f"{site}/plans/unpack", body | {"without_top": True}).text)
    assert other != job
    maren.post(f"/plans/{job}/carry-out", {"choice": "replace"})

    assert ended(maren, job) is JobState.DONE
    assert tree(maren.there) == {"harbour/skin.css": b"blue"}
    broken = maren.client.put(f"{site}/archives?name=x.zip", content=b"no zip", headers={"x-csrf": token})
    assert broken.status_code == 422
    assert maren.post(f"{site}/plans/unpack", body | {"token": "../../../../etc"}).status_code == 422


def test_hurting_names_stay_behind_from_now_on(maren: Visitor) -> None:
    site = maren.open_site()
    write(maren.here, "leaflets/Tide Table.html", "times")
    write(maren.here, "leaflets/list.html", "list")
    body = wish("leaflets", to_side="there")

    job = plan_of(maren.post(f"{site}/plans/transfer", body).text)
    narrowed = maren.post(f"/plans/{job}/leave-out", {"what": "hurting", "as_sieve": True}).text

    assert "1 new" in narrowed
    assert "behind because of the sieve" in maren.post(f"{site}/plans/transfer", body).text


def test_the_room_of_a_package_is_counted_beside_the_plan(maren: Visitor) -> None:
    site = maren.open_site_at(maren.add_site(package_mib="1"))
    write(maren.there, "film.bin", "x" * 900_000)
    write(maren.here, "more.bin", "x" * 500_000)

    plan = maren.post(f"{site}/plans/transfer", wish("more.bin", to_side="there"))
    job = plan_of(plan.text)
    room = maren.get(f"/plans/{job}/room").text

    assert f'data-lazy="/plans/{job}/room"' in plan.text
    assert "Short by" in room
    assert "of a quota of 1.0 MB" in room


def test_a_better_place_is_offered(maren: Visitor) -> None:
    site = maren.open_site()
    for name in ("a.html", "b.html", "c.html"):
        write(maren.here, name, "new")
        write(maren.there, f"pages/{name}", "old")

    plan = maren.post(f"{site}/plans/transfer", wish("a.html", "b.html", "c.html", to_side="there")).text

    assert "already in /htdocs/pages" in plan
    assert 'data-place="/htdocs/pages"' in plan


def test_copies_and_moves_are_asked_for_and_planned(maren: Visitor) -> None:
    site = maren.open_site()
    write(maren.there, "a.txt", "a")
    form = maren.post(f"{site}/plans/copy-form", wish("a.txt")).text
    assert 'name="to" value="/htdocs"' in form
    body = wish("a.txt", side="there", to="/htdocs/old", move=True, site=0)

    job = plan_of(maren.post(f"{site}/plans/copy", body).text)
    maren.post(f"/plans/{job}/carry-out", {"choice": "replace"})

    assert ended(maren, job) is JobState.DONE
    assert tree(maren.there) == {"old/a.txt": b"a"}
    assert maren.post(f"{site}/plans/copy", wish("x", side="here", to="/studio/moss/b", site=7)).status_code == 422
    assert maren.post(f"{site}/plans/copy", body | {"to": "../up"}).status_code == 422


def test_moving_out_of_a_guarded_folder_needs_a_second_word(maren: Visitor) -> None:
    site = maren.open_site()
    write(maren.there, "mail/box.txt", "mail")
    wanted = {"here": HERE, "there": THERE + "/mail", "names": ["box.txt"], "side": "there", "to": "/htdocs/old"}
    job = plan_of(maren.post(f"{site}/plans/copy", wanted | {"move": True, "site": 0}).text)

    assert maren.post(f"/plans/{job}/carry-out", {"choice": "replace"}).status_code == 409
    assert tree(maren.there) == {"mail/box.txt": b"mail"}
    assert maren.post(f"/plans/{job}/carry-out", {"choice": "replace", "guarded_confirmed": True}).status_code == 200
    assert ended(maren, job) is JobState.DONE
    assert tree(maren.there) == {"old/box.txt": b"mail"}
