"""The pages of getting connected: adding, trying, identities, settings, the wire, sites out and in."""

from __future__ import annotations

import json
import os
import re
from typing import Any

import pytest

from nailer.core.files.sitepath import SitePath
from nailer.sides.identities.identity import host_key
from nailer.standins.ftp import FtpHost
from tests.web.conftest import Visitor

LETTER = (
    "FTP server: ftp.mosslane.example\nLogin: seedlib\u00a0\nPassword: sow-and-reap\nSSH port: 22\nUpload to /htdocs"
)


def site_form(**fields: str) -> dict[str, str]:
    usual = {
        "host": "ftp.mosslane.example",
        "user_name": "seedlib",
        "password": "sow-and-reap",
        "protocol": "sftp",
        "port": "22",
        "start_here": "studio/moss",
        "start_there": "/htdocs",
    }
    return usual | fields


def try_it(maren: Visitor, **fields: str) -> list[dict[str, Any]]:
    """The lines of a trial of the form."""
    response = maren.client.post("/sites/try", data=site_form(**fields), headers={"x-csrf": maren.csrf})
    assert response.status_code == 200, response.text
    return [json.loads(line) for line in response.text.splitlines()]


def site_of(maren: Visitor, address: str) -> Any:
    assert maren.client.portal is not None
    return maren.client.portal.call(maren.nailer.stores.sites.get, int(address.rsplit("/", 1)[1]))


def test_a_letter_is_read_and_its_secret_masked_in_the_text(maren: Visitor) -> None:
    told = maren.post("/sites/letter", {"text": LETTER}).json()

    (account,) = told["accounts"]
    assert account["fields"]["host"]["value"] == "ftp.mosslane.example"
    assert account["fields"]["password"]["value"] == "sow-and-reap"
    shown = "".join(one["text"] for one in account["segments"])
    assert "sow-and-reap" not in shown
    assert "••••" in shown
    assert any("user name" in note for note in told["notes"])


def test_a_letter_pasted_on_the_sites_view_arrives_read(maren: Visitor) -> None:
    page = maren.post_form("/sites/add", letter=LETTER).text

    assert '"host": {"value": "ftp.mosslane.example"' in page
    assert "Password: sow-and-reap" not in page, "the letter itself is shown masked"


def test_a_trial_shows_the_identity_and_goes_on_once_it_is_trusted(maren: Visitor) -> None:
    first = try_it(maren)

    met = next(one for one in first if one.get("meeting"))
    key = re.search(r'name="public_key"\s+value="([^"]+)"', met["meeting"])
    assert key is not None
    answer = maren.client.post(
        "/tries/trust",
        data={"host": "ftp.mosslane.example", "port": "22", "public_key": key[1].replace("&#43;", "+"), "how": "once"},
        headers={"x-csrf": maren.csrf},
    )
    assert answer.json() == {"ok": True}
    second = try_it(maren)

    assert second[-1] == {"done": True}
    assert [one["mark"] for one in second if one.get("step") == "sign-in"][-1] == "good"
    assert "Add your first site" in maren.get("/sites").text, "trying stores nothing"


def test_a_trial_of_a_form_with_slips_says_which(maren: Visitor) -> None:
    response = maren.client.post("/sites/try", data=site_form(host="", port="99999"), headers={"x-csrf": maren.csrf})

    assert response.status_code == 422
    assert set(response.json()["fields"]) == {"host", "port"}


def test_a_wrong_fingerprint_trusts_nothing(maren: Visitor) -> None:
    met = next(one for one in try_it(maren) if one.get("meeting"))
    key = re.search(r'name="public_key"\s+value="([^"]+)"', met["meeting"])
    assert key is not None
    fields = {
        "host": "ftp.mosslane.example",
        "port": "22",
        "public_key": key[1].replace("&#43;", "+"),
        "published": "SHA256:wrong",
    }

    response = maren.client.post("/tries/trust", data=fields, headers={"x-csrf": maren.csrf})

    assert response.status_code == 409
    assert "does not match" in response.json()["what"]
    assert next(one for one in try_it(maren) if one.get("meeting"))


def test_a_stored_site_is_tried_with_its_stored_password(maren: Visitor) -> None:
    site = maren.open_site()

    lines = try_it(maren, site_id=site.rsplit("/", 1)[1], password="")

    assert lines[-1] == {"done": True}
    assert not any(one.get("mark") == "bad" for one in lines)


def test_connecting_once_stores_no_secret(maren: Visitor) -> None:
    site = maren.add_site(store="no")

    stored = site_of(maren, site)
    assert stored.fleeting
    assert maren.client.portal is not None
    assert maren.client.portal.call(maren.nailer.stores.sites.secrets, stored).password is None
    assert "Not saved" in maren.get("/sites").text
    met = maren.post(f"{site}/open")
    key = re.search(r'name="public_key"\s+value="([^"]+)"', met.text)
    assert key is not None
    maren.post_form(f"{site}/trust", public_key=key[1].replace("&#43;", "+"), how="always")
    assert maren.post(f"{site}/open").json() == {"ok": True}


def test_what_a_server_asks_is_relayed_and_answered(maren: Visitor) -> None:
    maren.host.question = ("Name of the harbour seal: ", "Umber")
    site = maren.add_site()
    met = maren.post(f"{site}/open")
    key = re.search(r'name="public_key"\s+value="([^"]+)"', met.text)
    assert key is not None
    maren.post_form(f"{site}/trust", public_key=key[1].replace("&#43;", "+"), how="always")

    asked = maren.post(f"{site}/open")
    question = re.search(r'name="question"\s+value="([^"]+)"', asked.text)
    assert "Name of the harbour seal" in asked.text
    assert question is not None
    fields = {"question": question[1], "count": "1", "answer_0": "Umber"}
    answered = maren.client.post(f"{site}/answers", data=fields, headers={"x-csrf": maren.csrf})

    assert answered.json() == {"ok": True}
    assert "Umber" not in maren.get(f"{site}/connection").text


def test_settings_come_back_as_they_were_typed(maren: Visitor) -> None:
    site = maren.add_site()
    typed = site_form(
        name="Moss Lane",
        password="",
        protocol="ftps",
        port="2121",
        charset="iso-8859-1",
        connections_most="7",
        passive="",
        old_allowed="yes",
        clock_how="set",
        clock_offset_h="-5.5",
        file_permissions="640",
        folder_permissions="750",
        package_mib="500",
        proxy_kind="socks5",
        proxy_host="socks.example",
        proxy_port="1080",
        web_address_0="https://mosslane.example/",
        web_address_1="https://shop.mosslane.example/",
        web_folder_1="/shop",
        key_file="~/.ssh/id",
        password_kept="session",
        colour="teal",
    )
    maren.post_form(f"{site}/settings", **typed)

    page = maren.get(f"{site}/settings").text
    stored = site_of(maren, site)

    assert (stored.protocol, stored.port, stored.charset, stored.connections_most) == ("ftps", 2121, "iso-8859-1", 7)
    assert (stored.passive, stored.old_allowed, stored.clock_offset_s) == (False, True, -19_800)
    assert (stored.file_permissions, stored.folder_permissions, stored.package_bytes) == (0o640, 0o750, 500 * 1024**2)
    assert [str(one.folder) for one in stored.document_roots] == ["/htdocs", "/shop"]
    for value in ("2121", "-5.5", "640", "socks.example", "https://shop.mosslane.example/", "~/.ssh/id"):
        assert f'value="{value}"' in page


@pytest.mark.parametrize(
    ("field", "value"),
    [
        ("port", "0"),
        ("connections_most", "99"),
        ("clock_offset_h", "noon"),
        ("file_permissions", "999"),
        ("proxy_kind", "socks5"),
        ("user_name", ""),
        ("user_name", "two\x07names"),
        ("web_folder_1", "/shop"),
        ("start_there", "/a/../b"),
        ("protocol", "gopher"),
    ],
)
def test_a_slip_in_the_settings_is_said_and_changes_nothing(maren: Visitor, field: str, value: str) -> None:
    site = maren.add_site()
    before = site_of(maren, site)

    response = maren.post_form(f"{site}/settings", **site_form(name="Other", clock_how="set", **{field: value}))

    assert response.status_code == 422
    assert 'class="problem"' in response.text
    assert site_of(maren, site) == before


def test_a_blank_is_cut_off_a_stored_password_only_when_asked(maren: Visitor) -> None:
    site = maren.add_site(password="sow-and-reap ")
    maren.post_form(f"{site}/settings", **site_form(password="", trim_password="yes"))

    assert maren.client.portal is not None
    assert maren.client.portal.call(maren.nailer.stores.sites.secrets, site_of(maren, site)).password == "sow-and-reap"


def test_one_sign_in_serves_several_sites_and_is_changed_once(maren: Visitor) -> None:
    site = maren.add_site()
    copy = str(maren.post_form(f"{site}/duplicate").url).partition("testserver")[2].removesuffix("/settings")

    assert site_of(maren, copy).credential_id == site_of(maren, site).credential_id
    assert "shared with Moss Lane" in maren.get(f"{copy}/settings").text
    maren.post_form(f"{copy}/settings", **site_form(name="Copy", password="a-new-one"))
    portal = maren.client.portal
    assert portal is not None
    assert portal.call(maren.nailer.stores.sites.secrets, site_of(maren, site)).password == "a-new-one"
    page = maren.get(f"{site}/remove").text
    assert "not its sign-in details: 1 other site uses them" in page


def test_sites_are_arranged_in_groups_that_nest(maren: Visitor) -> None:
    one, two = maren.add_site(name="One"), maren.add_site(name="Two")
    maren.post_form("/groups", name="Clients")
    portal = maren.client.portal
    assert portal is not None
    (clients,) = portal.call(maren.nailer.stores.sites.groups)
    maren.post_form("/groups", name="Staging", parent_id=str(clients.id))
    staging = next(group for group in portal.call(maren.nailer.stores.sites.groups) if group.name == "Staging")
    order = [
        {"site": int(two.rsplit("/", 1)[1]), "group": staging.id},
        {"site": int(one.rsplit("/", 1)[1]), "group": None},
    ]

    maren.post("/sites/arrange", {"sites": order})
    page = maren.get("/sites").text

    assert "Clients / Staging" in page
    assert page.index(">Two<") < page.index(">One<")
    refused = maren.post_form(f"/groups/{clients.id}", name="Clients", parent_id=str(staging.id))
    assert "cannot be inside itself" in refused.text
    maren.post_form(f"/groups/{clients.id}/remove")
    assert "Clients" not in maren.get("/sites").text
    assert ">Two<" in maren.get("/sites").text


def test_sites_go_out_without_secrets_and_come_back(maren: Visitor) -> None:
    site = maren.add_site(password="sow-and-reap", charset="iso-8859-1", web_address_0="https://mosslane.example/")
    text = maren.get("/sites/export").text
    before = site_of(maren, site)

    assert "sow-and-reap" not in text
    maren.post_form(f"{site}/remove", confirm_name="Moss Lane")
    looked = maren.post_form("/sites/import", text=text)
    assert "1 site in this file" in looked.text
    assert "Add your first site" in maren.get("/sites").text, "looking takes nothing over"
    maren.post_form("/sites/import", text=text, take="yes", site_0="yes")
    portal = maren.client.portal
    assert portal is not None
    (after,) = portal.call(maren.nailer.stores.sites.all)

    assert (after.name, after.charset, after.document_roots) == (before.name, before.charset, before.document_roots)
    assert (after.start_here, after.guarded) == (before.start_here, before.guarded)


def test_a_client_configuration_of_openssh_is_taken_in(maren: Visitor) -> None:
    text = "Host sea\n HostName ftp.sea.example\n User maren\n Port 2200\n IdentityFile ~/.ssh/sea\nHost *\n Port 22\n"

    maren.post_form("/sites/import", text=text, take="yes", site_0="yes")
    portal = maren.client.portal
    assert portal is not None
    (site,) = portal.call(maren.nailer.stores.sites.all)

    assert (site.name, site.host, site.port, site.agent) == ("sea", "ftp.sea.example", 2200, True)
    assert site.key_file == "", "a file that came in names no file of this machine"
    assert "~/.ssh/sea" in site.note


def test_a_site_that_is_handed_over_carries_the_fingerprint_and_asks_for_its_password(maren: Visitor) -> None:
    site = maren.open_site()
    text = maren.get(f"/sites/export?site={site.rsplit('/', 1)[1]}").text
    key = json.loads(text)["sites"][0]["fingerprint"]
    assert key.startswith("SHA256:")
    assert "sow-and-reap" not in text
    maren.post_form(f"{site}/remove", confirm_name="Moss Lane")
    for number in re.findall(r"/identities/(\d+)/remove", maren.get("/identities").text):
        maren.post_form(f"/identities/{number}/remove")

    maren.post_form("/sites/import", text=text, take="yes", site_0="yes")
    portal = maren.client.portal
    assert portal is not None
    (handed,) = portal.call(maren.nailer.stores.sites.all)
    site = f"/sites/{handed.id}"
    asked = maren.post(f"{site}/open")
    assert "shared without its password" in asked.text
    question = re.search(r'name="question" value="([^"]+)"', asked.text)
    assert question
    met = maren.post_form(f"{site}/answers", question=question[1], count="1", answer_0="sow-and-reap")
    assert "came with this site." in met.text
    assert f'value="{key}"' in met.text.replace("&#43;", "+")
    shown = re.search(r'name="public_key"\s+value="([^"]+)"', met.text)
    assert shown
    maren.post_form(f"{site}/trust", public_key=shown[1].replace("&#43;", "+"), how="always", published=key)

    opened = maren.post(f"{site}/open")
    assert opened.status_code == 200
    assert portal.call(maren.nailer.stores.sites.secrets, handed).password == "sow-and-reap"


def exported(**site: Any) -> str:
    usual = {"name": "Sea", "host": "ftp.sea.example", "port": 22, "start_here": "/studio/sea"}
    return json.dumps({"format": "nailer-sites", "version": 1, "sites": [usual | site]})


@pytest.mark.parametrize(
    ("site", "problem"),
    [
        ({"document_roots": [{"folder": "/a", "address": "javascript:alert(1)"}]}, "web_address_0"),
        ({"document_roots": [{"folder": "/a", "address": "data:text/html,x"}]}, "web_address_0"),
        ({"document_roots": [{"folder": "/a", "address": "https://a.example/"}] * 9}, "at most 8"),
        ({"host": "ftp.sea.example:22"}, "host"),
        ({"port": 70_000}, "port"),
        ({"user_name": "a\x00b"}, "user_name"),
        ({"proxy_kind": "socks5"}, "proxy"),
        ({"start_there": "/" + "w" * 300}, "start_there"),
        ({"start_there": "/%2e%2e/x"}, ".."),
        ({"guarded": ["/a/../b"]}, ".."),
        ({"clock_offset_s": 99_999}, "clock_offset"),
        ({"package_bytes": 10**30}, "package_"),
    ],
)
def test_a_site_that_comes_in_is_held_to_the_rules_of_the_page(
    maren: Visitor, site: dict[str, Any], problem: str
) -> None:
    looked = maren.post_form("/sites/import", text=exported(**site))

    assert looked.status_code == 422
    assert problem in looked.text
    maren.post_form("/sites/import", text=exported(**site), take="yes", site_0="yes")
    assert "Add your first site" in maren.get("/sites").text


def test_a_site_that_cannot_be_taken_in_leaves_the_others(maren: Visitor) -> None:
    text = json.loads(exported())
    text["sites"].append(
        text["sites"][0] | {"name": "Evil", "document_roots": [{"folder": "/", "address": "file:///etc"}]}
    )

    looked = maren.post_form("/sites/import", text=json.dumps(text))

    assert "1 site in this file" in looked.text
    assert "“Evil” cannot be imported" in looked.text


def test_a_key_file_in_an_export_and_a_folder_elsewhere_are_not_taken_over(maren: Visitor) -> None:
    text = exported(key_file="/etc/shadow", start_here="/elsewhere/x")

    maren.post_form("/sites/import", text=text, take="yes", site_0="yes")
    portal = maren.client.portal
    assert portal is not None
    (site,) = portal.call(maren.nailer.stores.sites.all)

    assert (site.key_file, site.start_here) == ("", SitePath((b"studio", b"Sea")))


def test_a_site_of_an_unknown_character_set_is_said_and_not_imported(maren: Visitor) -> None:
    """It was stored as UTF-8 without a word: every name of another set would have been wrong."""
    text = exported(charset="zzz")

    looked = maren.post_form("/sites/import", text=text)
    maren.post_form("/sites/import", text=text, take="yes", site_0="yes")
    portal = maren.client.portal
    assert portal is not None

    assert "does not know this character set" in looked.text
    assert portal.call(maren.nailer.stores.sites.all) == []


@pytest.mark.parametrize("text", ["[" * 50_000, '{"a":' * 20_000, exported(port=int("9" * 4000)), "{" + "9" * 6000])
def test_a_file_that_is_made_to_break_the_reader_is_refused(maren: Visitor, text: str) -> None:
    assert maren.post_form("/sites/import", text=text).status_code == 422


@pytest.mark.parametrize(
    ("text", "problem"),
    [
        ("", "Choose a file or paste"),
        ("{", "incomplete or damaged"),
        ('{"format": "something", "version": 1, "sites": []}', "cannot be used"),
        ('{"format": "nailer-sites", "version": 1, "sites": [{"name": "a", "host": "a b", "port": 22}]}', "host"),
        ("just words", "neither"),
    ],
)
def test_a_file_that_cannot_be_read_is_said(maren: Visitor, text: str, problem: str) -> None:
    response = maren.post_form("/sites/import", text=text)

    assert response.status_code == 422
    assert problem in response.text


def test_identities_are_listed_with_their_story_and_can_be_let_go(maren: Visitor) -> None:
    maren.open_site()
    page = maren.get("/identities").text
    remove = re.search(r"/identities/\d+/remove", page)
    assert "accepted when it was shown" in page
    assert remove is not None

    maren.post_form(remove[0])
    page = maren.get("/identities").text

    assert "No identity of this server is trusted" in page
    assert "removed by hand" in page


def test_known_hosts_comes_in_and_never_replaces_what_was_met(maren: Visitor) -> None:
    key = host_key(maren.host.host_key.convert_to_public())
    maren.add_site()
    text = f"ftp.mosslane.example {key.public_key}\n"

    assert "1 key" in maren.post_form("/identities/known_hosts", text=text).text
    assert maren.get("/identities/known_hosts").text == text
    site = maren.get("/sites").text
    assert "The server identity is known" in site
    from nailer.standins.sftp import SftpHost  # a second key, made as hosts make theirs

    other = host_key(SftpHost(maren.there, "x").host_key.convert_to_public())
    page = maren.post_form("/identities/known_hosts", text=f"ftp.mosslane.example {other.public_key}\n").text
    assert "remove that first" in page


def test_the_wire_is_shown_without_secrets_filtered_and_downloaded(maren: Visitor) -> None:
    site = maren.open_site()
    maren.get(f"{site}/ledger?here=/studio/moss&there=/htdocs")

    page = maren.get(f"{site}/connection").text
    text = maren.get(f"{site}/connection-log?as=text").text

    assert "sign in as seedlib by password" in page
    assert "sow-and-reap" not in page + text
    assert "read folder /htdocs" in text
    assert "read folder" not in maren.get(f"{site}/connection-log?text=sign%20in").text
    assert "SSH" in page
    assert maren.get("/connections").json()["open"][0]["lines"] == 1


def test_disconnecting_closes_the_line(maren: Visitor) -> None:
    site = maren.open_site()

    maren.post_form(f"{site}/disconnect")

    assert maren.get("/connections").json() == {"open": []}
    assert "not connected" in maren.get(f"{site}/connection").text


def test_a_raw_command_needs_a_yes_and_never_touches_the_line(maren: Visitor) -> None:
    portal = maren.client.portal
    assert portal is not None
    host = FtpHost(maren.there.parent, "seedlib", "sow-and-reap")
    maren.nailer.settings.routes["ftp.mosslane.example:21"] = f"127.0.0.1:{portal.call(host.start)}"
    site = maren.add_site(protocol="ftp", port="21")
    try:
        assert "nothing was sent" in maren.post_form(f"{site}/raw", command="SITE HELP").text.lower()
        assert "cannot be sent by hand" in maren.post_form(f"{site}/raw", command="TYPE A", understood="yes").text
        answer = maren.post_form(f"{site}/raw", command="SITE HELP", understood="yes").text
        assert "214" in answer
        assert "Not encrypted" in maren.get("/sites").text
    finally:
        portal.call(maren.nailer.sites.pool.close)
        portal.call(host.stop)


def test_the_go_to_box_knows_actions(maren: Visitor) -> None:
    site = maren.add_site()

    found = maren.get(f"/finder?q=identit&site={site.rsplit('/', 1)[1]}").text
    own = maren.get(f"/finder?q=settings&site={site.rsplit('/', 1)[1]}").text

    assert "/identities" in found
    assert f"{site}/settings" in own


def test_a_password_kept_for_the_session_is_gone_after_signing_out(maren: Visitor) -> None:
    site = maren.add_site(password_kept="session")
    assert maren.client.portal is not None
    assert maren.client.portal.call(maren.nailer.stores.sites.secrets, site_of(maren, site)).password is None
    met = maren.post(f"{site}/open")
    key = re.search(r'name="public_key"\s+value="([^"]+)"', met.text)
    assert key is not None
    maren.post_form(f"{site}/trust", public_key=key[1].replace("&#43;", "+"), how="always")
    assert maren.post(f"{site}/open").json() == {"ok": True}

    maren.post_form("/sign-out")
    maren.client.post(
        "/sign-in", data={"name": "maren", "password": "gannets-and-gorse"}, headers={"accept": "text/html"}
    )

    assert "Password of seedlib" in maren.post(f"{site}/open").text


def test_the_connection_shows_how_names_read_in_other_sets(maren: Visitor) -> None:
    (maren.there / os.fsdecode(b"men\xfc.html")).write_text("soup")
    site = maren.open_site()
    maren.get(f"{site}/ledger?here=/studio/moss&there=/htdocs")

    page = maren.get(f"{site}/connection").text

    assert "menü.html" in page
    assert "Latin-1, western Europe" in page


def test_what_no_server_takes_is_refused_at_its_field(maren: Visitor) -> None:
    usual = {
        "name": "Moss Lane",
        "host": "ftp.mosslane.example",
        "user_name": "seedlib",
        "password": "sow-and-reap",
        "start_here": "studio/moss",
        "start_there": "/htdocs",
    }
    for field, value in (
        ("start_there", "/htdocs\r\nDELE index.html"),
        ("start_there", "/" + "x" * 256),
        ("password", "sow\r\nand-reap"),
        ("user_name", "seed\r\nlib"),
    ):
        answer = maren.post_form("/sites", **usual | {field: value})
        assert answer.status_code == 422, field
        assert 'class="problem"' in answer.text, field
    site = maren.open_site()
    for name in ("x" * 256, "two\r\nlines"):
        wish = {"side": "there", "folder": "/htdocs", "name": name}
        assert maren.post(f"{site}/new-file", wish | {"template": ""}).status_code == 422
    assert maren.there.exists()
    assert list(maren.there.iterdir()) == []
