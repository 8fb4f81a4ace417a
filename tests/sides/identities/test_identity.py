"""Certificates and their doubts, known_hosts in and out, and proxies on the way to a server."""

from __future__ import annotations

import base64
import hmac
from datetime import UTC, datetime
from hashlib import sha1
from pathlib import Path

import asyncssh
import pytest
from cryptography.hazmat.primitives.serialization import Encoding
from cryptography.x509.verification import Store

from nailer.errors import HostUnreachable, IdentityChanged, IdentityUnknown, InvalidInput, Unreached
from nailer.sides.connection import Lane
from nailer.sides.dial import Endpoint, Proxy, ProxyKind
from nailer.sides.identities import certificate
from nailer.sides.identities.certificate import doubts_of, facts_of, identity_of_certificate, identity_of_pem, names_of
from nailer.sides.identities.identity import host_key, judged, same_fingerprint
from nailer.sides.identities.known_hosts import read_known_hosts, write_known_hosts
from nailer.sides.reach import reach
from nailer.standins.certificates import make_certificate
from nailer.standins.ftp import FtpHost
from nailer.standins.proxy import ProxyHost
from nailer.standins.sftp import SftpHost
from tests.builders import path, write
from tests.contracts.sides import HOST, connected, wanted

NOW = datetime.now(UTC)


def der_of(tmp_path: Path, *names: str, **more: int) -> bytes:
    made, _ = make_certificate(tmp_path / "one.pem", *names, **more)
    return made.public_bytes(Encoding.DER)


@pytest.mark.parametrize(
    ("names", "days", "host", "doubts"),
    [
        (("ftp.a.example",), 90, "ftp.a.example", ["self-signed"]),
        (("ftp.a.example",), 90, "FTP.A.EXAMPLE.", ["self-signed"]),
        (("*.a.example",), 90, "ftp.a.example", ["self-signed"]),
        (("*.a.example",), 90, "deep.ftp.a.example", ["another name", "self-signed"]),
        (("*.example",), 90, "a.example", ["another name", "self-signed"]),
        (("b.example",), -5, "ftp.a.example", ["another name: b.example", "expired", "self-signed"]),
    ],
)
def test_a_certificate_is_doubted_for_what_is_wrong_with_it(
    tmp_path: Path, names: tuple[str, ...], days: int, host: str, doubts: list[str]
) -> None:
    found = doubts_of([der_of(tmp_path, *names, days=days)], host, NOW)

    assert len(found) == len(doubts)
    assert all(wanted in said for wanted, said in zip(doubts, found, strict=True))


def test_a_certificate_of_an_unknown_authority_is_doubted(tmp_path: Path) -> None:
    authority = make_certificate(tmp_path / "ca.pem", "Made-up authority", days=3650)
    made, _ = make_certificate(tmp_path / "leaf.pem", "ftp.a.example", issuer=authority)

    (doubt,) = doubts_of(
        [made.public_bytes(Encoding.DER), authority[0].public_bytes(Encoding.DER)], "ftp.a.example", NOW
    )

    assert "Made-up authority signed it, but this authority is unknown" in doubt


def test_the_facts_of_a_certificate_are_read(tmp_path: Path) -> None:
    der = der_of(tmp_path, "ftp.a.example", "*.a.example")
    identity = identity_of_certificate(der)
    facts = facts_of(identity.public_key)

    assert facts.names == ("ftp.a.example", "*.a.example")
    assert facts.own_issuer
    assert facts.key == "ECDSA, secp256r1"
    assert names_of(identity.public_key) == ("ftp.a.example",)
    assert identity_of_pem(identity.public_key) == identity
    assert same_fingerprint(identity.fingerprint.lower().removeprefix("sha256:"), identity.fingerprint)
    assert not same_fingerprint(
        identity.fingerprint[:-1] + "0" * (identity.fingerprint[-1] != "0") or "1", identity.fingerprint
    )


def test_what_is_no_certificate_is_refused() -> None:
    with pytest.raises(InvalidInput):
        identity_of_pem("-----BEGIN CERTIFICATE-----\nAAAA\n-----END CERTIFICATE-----")


def test_an_authority_that_vouches_asks_no_question_until_something_is_pinned(tmp_path: Path) -> None:
    shown = identity_of_certificate(der_of(tmp_path, "ftp.a.example"))
    other = identity_of_certificate(der_of(tmp_path, "ftp.a.example"))

    judged(shown, (), host="ftp.a.example", port=21, doubts=())
    judged(shown, (shown,), host="ftp.a.example", port=21, doubts=("expired",))
    with pytest.raises(IdentityUnknown) as met:
        judged(shown, (), host="ftp.a.example", port=21, doubts=("It expired.",))
    with pytest.raises(IdentityChanged):
        judged(shown, (other,), host="ftp.a.example", port=21, doubts=())

    assert met.value.doubts == ("It expired.",)


def test_the_authorities_of_the_machine_and_of_nailer_are_known() -> None:
    assert certificate.authorities() is certificate.authorities(), "read once"


def test_known_hosts_goes_out_and_comes_back() -> None:
    keys = [(f"s{port}.example", port, host_key(asyncssh.generate_private_key("ssh-ed25519"))) for port in (22, 2222)]

    text = write_known_hosts(keys)

    assert text.splitlines()[1].startswith("[s2222.example]:2222 ssh-ed25519 ")
    assert list(read_known_hosts(text).keys) == keys


def test_known_hosts_of_other_origin_is_read_with_care() -> None:
    key = host_key(asyncssh.generate_private_key("ssh-ed25519"))
    salt = b"0123456789abcdefghij"
    digest = hmac.new(salt, b"hidden.example", sha1).digest()
    hashed = f"|1|{base64.b64encode(salt).decode()}|{base64.b64encode(digest).decode()}"
    text = (
        f"# a comment\n\none.example,192.0.2.1 {key.public_key} maren@studio\n{hashed} {key.public_key}\n"
        f"@revoked bad.example {key.public_key}\n*.wild.example {key.public_key}\nbroken.example ssh-ed25519 AAAA\n"
    )

    found = read_known_hosts(text, [("hidden.example", 22), ("other.example", 22)])

    assert [(host, port) for host, port, _ in found.keys] == [
        ("one.example", 22),
        ("192.0.2.1", 22),
        ("hidden.example", 22),
    ]
    assert len(found.left) == 3


@pytest.mark.parametrize("kind", [ProxyKind.SOCKS5, ProxyKind.HTTP])
@pytest.mark.parametrize("protocol", ["sftp", "ftp"])
async def test_a_line_goes_through_a_proxy_and_its_data_too(tmp_path: Path, kind: ProxyKind, protocol: str) -> None:
    write(tmp_path, "a.txt", "through")
    host: SftpHost | FtpHost = (SftpHost if protocol == "sftp" else FtpHost)(tmp_path, "seedlib", "sow-and-reap")
    proxy = ProxyHost(route=lambda name, port: ("127.0.0.1", host.port if port in (21, 22) else port))
    await proxy.start()
    port = 22 if protocol == "sftp" else 21
    where = Endpoint(HOST, port, HOST, port, Proxy(kind, "127.0.0.1", proxy.port))
    try:
        async with connected(host, where=where) as connection:
            side = await connection.channel(Lane.BROWSE)
            assert [entry.name for entry in (await side.list(path("/"))).entries] == [b"a.txt"]
    finally:
        await proxy.stop()

    assert proxy.asked[0] == (HOST, port), "the proxy finds the name, not this machine"


@pytest.mark.parametrize("kind", [ProxyKind.SOCKS5, ProxyKind.HTTP])
async def test_a_proxy_in_the_way_is_told_from_the_server(tmp_path: Path, kind: ProxyKind) -> None:
    proxy = ProxyHost(refuses=True)
    port = await proxy.start()
    host = SftpHost(tmp_path, "seedlib", "sow-and-reap")
    where = Endpoint(HOST, 22, HOST, 22, Proxy(kind, "127.0.0.1", port))
    try:
        with pytest.raises(HostUnreachable, match="does not lead to") as refused:
            await reach(wanted(host, where=where))
    finally:
        await proxy.stop()
    with pytest.raises(HostUnreachable, match="does not answer") as gone:
        await reach(wanted(host, where=where))

    assert (refused.value.why, gone.value.why) == (Unreached.PROXY, Unreached.PROXY)


def test_an_authority_without_key_usage_is_one_and_all_doubts_are_told(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """As firms and hosts make their own; doubts about the chain are told beside a name and a time that are wrong."""
    authority = make_certificate(tmp_path / "ca.pem", "Moss Lane Authority", days=4000)
    file = tmp_path / "leaf.pem"
    leaf, _ = make_certificate(file, "ftp.mosslane.example", issuer=authority)
    late, _ = make_certificate(file, "other.mosslane.example", days=-3, age_days=40, issuer=authority)
    chain = [leaf.public_bytes(Encoding.DER)]
    late_chain = [late.public_bytes(Encoding.DER)]
    now = datetime.now(UTC)

    monkeypatch.setattr(certificate, "authorities", lambda: Store([authority[0]]))
    assert certificate.doubts_of(chain, "ftp.mosslane.example", now) == ()
    known = certificate.doubts_of(late_chain, "ftp.mosslane.example", now)
    stranger = make_certificate(tmp_path / "other.pem", "Somebody Else", days=4000)
    monkeypatch.setattr(certificate, "authorities", lambda: Store([stranger[0]]))
    unknown = certificate.doubts_of(late_chain, "ftp.mosslane.example", now)

    assert len(known) == 2, "another name, and expired"
    assert len(unknown) == 3
    assert "Moss Lane Authority signed it" in unknown[-1]
