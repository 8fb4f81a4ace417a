"""Signing in and looking round at real servers, in the ways that hosts set them up."""

from __future__ import annotations

import asyncio
import io
import os
import subprocess
import zipfile
from pathlib import Path

import asyncssh
import pytest

from nailer.core.connecting.protocol import Protocol
from nailer.core.files.completeness import Lack
from nailer.core.files.entry import SideName
from nailer.core.files.names import part_name
from nailer.core.files.sitepath import SitePath
from nailer.core.jobs.states import JobState
from nailer.errors import EncryptionDemanded, LoginRefused, NailerError, NotSupported, PermissionRefused
from nailer.services.files.download import file_to_fetch, zipped
from nailer.sides.connection import Lane, SignIn
from nailer.sides.dial import Endpoint
from nailer.sides.identities.identity import published_fingerprint
from nailer.sides.sftp.side import host_keys
from nailer.sides.side import once
from tests.builders import path, tree, write
from tests.real.grounds import connected_to, path_of
from tests.real.packages import programs
from tests.real.relay import Relay
from tests.real.servers import HOST, PASSWORD, USER, RealHost, authorized, give, openssh, proftpd, vsftpd
from tests.rough.worlds import failures, hidden
from tests.world import a_world_on


async def refused(host: RealHost, sign_in: SignIn) -> NailerError:
    """The error that this sign-in ends with."""
    with pytest.raises(NailerError) as raised:
        async with connected_to(host, sign_in=sign_in) as connection:
            await connection.channel(Lane.BROWSE)
    return raised.value


def a_key(host: RealHost) -> str:
    """A private key that the server lets in."""
    key = asyncssh.generate_private_key("ssh-ed25519")
    authorized(host, key)
    return key.export_private_key("openssh").decode()


async def test_two_steps_say_which_one_is_missing(tmp_path: Path) -> None:
    with openssh(tmp_path / "p", "AuthenticationMethods publickey,password") as host:
        key = a_key(host)

        missing = await refused(host, SignIn(USER, private_key=key))
        wrong = await refused(host, SignIn(USER, "wrong", private_key=key))
        async with connected_to(host, sign_in=SignIn(USER, PASSWORD, private_key=key)) as connection:
            assert connection.is_open

    assert isinstance(missing, LoginRefused)
    assert "accepted the key" in missing.what
    assert "the password" in missing.what
    assert "None is stored" in missing.what
    assert isinstance(wrong, LoginRefused)
    assert "accepted the key" in wrong.what
    assert "refused" in wrong.what


async def test_a_wrong_password_to_questions_is_a_refusal(tmp_path: Path) -> None:
    lines = ("PasswordAuthentication no", "KbdInteractiveAuthentication yes")
    with openssh(tmp_path / "p", *lines) as host:
        wrong = await refused(host, SignIn(USER, "wrong"))
        async with connected_to(host, sign_in=SignIn(USER, PASSWORD)) as connection:
            assert connection.is_open

    assert isinstance(wrong, LoginRefused)
    assert wrong.server_words is None, "no sentence of a library is told as the server's"


async def test_a_key_where_only_a_password_is_taken_is_said(tmp_path: Path) -> None:
    with openssh(tmp_path / "p", "PubkeyAuthentication no") as host:
        told = await refused(host, SignIn(USER, private_key=a_key(host)))

    assert "It accepts the password" in told.what


async def test_the_noise_of_a_login_shell_is_shown(tmp_path: Path) -> None:
    noise = tmp_path / "noisy"
    noise.write_text("#!/bin/sh\necho Welcome to Moss Lane hosting\nexec cat\n")
    noise.chmod(0o755)
    with openssh(tmp_path / "p", f"Subsystem sftp {noise}") as host:
        told = await refused(host, SignIn(USER, PASSWORD))

    assert isinstance(told, NotSupported)
    assert "The sign-in worked" in told.what
    assert "Welcome to Moss Lane hosting" in (told.server_words or "")


async def test_an_account_without_files_is_told_from_a_refused_sign_in(tmp_path: Path) -> None:
    with openssh(tmp_path / "p", "Subsystem sftp /bin/false") as host:
        told = await refused(host, SignIn(USER, PASSWORD))

    assert isinstance(told, NotSupported)
    assert "The sign-in worked" in told.what


async def test_a_connection_that_cannot_be_used_is_closed(database: object, migrated_url: str, tmp_path: Path) -> None:
    with openssh(tmp_path / "p", "Subsystem sftp /bin/false") as host:
        asked = a_world_on(host, tmp_path, migrated_url, host.home, identity=host.identity, from_home=True)
        async with asked as world:
            with pytest.raises(NotSupported):
                async with world.nailer.files.browse.side(world.site, SideName.THERE):
                    raise AssertionError("the account has no files")

            # Nailer still runs: what it holds open now, it would hold for ever.
            async with asyncio.timeout(10):
                while "Received disconnect" not in host.log:
                    await asyncio.sleep(0.02)


async def test_a_fingerprint_of_another_kind_of_key_is_found(tmp_path: Path) -> None:
    place = tmp_path / "p"
    place.mkdir()
    rsa = asyncssh.generate_private_key("ssh-rsa")
    file = place / "rsa_key"
    file.touch(0o600)
    file.write_bytes(rsa.export_private_key("openssh"))
    with openssh(place, f"HostKey {file}") as host:
        keys = await host_keys(Endpoint(HOST, 22, host.address, host.port))

    fingerprint = rsa.convert_to_public().get_fingerprint()
    assert {one.algorithm for one in keys} == {"ssh-ed25519", "ssh-rsa"}
    assert fingerprint in {one.fingerprint for one in keys}
    assert published_fingerprint(f"3072 {fingerprint} root@moss (RSA)") == fingerprint


async def test_encryption_that_is_demanded_is_no_wrong_password(tmp_path: Path) -> None:
    for number, server in enumerate((vsftpd, proftpd)):
        with server(tmp_path / str(number), tls="explicit") as host:
            host.protocol = Protocol.FTP
            told = await refused(host, SignIn(USER, PASSWORD))

        assert isinstance(told, EncryptionDemanded), told.what


async def test_a_start_folder_is_told_from_the_home(database: object, migrated_url: str, tmp_path: Path) -> None:
    with openssh(tmp_path / "p") as host:
        (host.home / "htdocs").mkdir()
        give(host.home)
        async with (
            a_world_on(
                host,
                tmp_path,
                migrated_url,
                host.home / "htdocs",
                identity=host.identity,
                start_there=path("/htdocs"),
                from_home=True,
            ) as world,
            world.nailer.files.browse.side(world.site, SideName.THERE),
        ):
            site = await world.nailer.stores.sites.get(world.site.id)

    assert site.start_there == SitePath.parse(str(host.home / "htdocs").encode())
    assert site.document_roots[0].folder == site.start_there


async def test_permissions_of_a_tree_are_ours_before_anything_was_carried(
    database: object, migrated_url: str, tmp_path: Path
) -> None:
    with openssh(tmp_path / "p") as host:
        give(write(host.home, "site/a.html"), host.home / "site")
        async with a_world_on(
            host,
            tmp_path,
            migrated_url,
            host.home / "site",
            identity=host.identity,
            start_there=path_of(host, host.home / "site"),
        ) as world:
            reading = await world.nailer.files.permissions.read(
                world.account_id, world.site, SideName.THERE, world.top, []
            )

    assert reading.foreign == ()
    assert len(reading.entries) == 2


async def test_renaming_that_is_denied_leaves_the_live_file(
    database: object, migrated_url: str, tmp_path: Path
) -> None:
    for number, start in enumerate(
        (
            lambda place: vsftpd(place, "cmds_denied=RNFR,RNTO"),
            lambda place: openssh(place, "Subsystem sftp internal-sftp -P rename,posix-rename"),
        )
    ):
        with start(tmp_path / str(number)) as host:
            folder = host.home / "site"
            give(write(folder, "index.html", "live", at_s=1_700_000_000), folder)
            async with a_world_on(
                host,
                tmp_path / f"world-{number}",
                migrated_url,
                folder,
                identity=host.identity,
                protocol=host.protocol,
                start_there=path_of(host, folder),
            ) as world:
                write(world.here, "index.html", "new")
                job = await world.upload("index.html")
                assert (folder / "index.html").read_text() == "live"
                assert job.state is JobState.NEEDS_YOU
                await world.nailer.stores.sites.set_in_place(world.site.id, allowed=True)
                await world.nailer.stores.jobs.again(job.id)
                world.nailer.engine.runner.wake()
                job = await world.ended(job.id)
                assert job.state is JobState.DONE, await failures(world, job)
                assert (folder / "index.html").read_text() == "new"
                assert not hidden(folder)
                await world.nailer.stores.sites.remove(world.site.id)


async def test_a_listing_limit_is_heard(tmp_path: Path) -> None:
    """By LIST alone it stops after so many names; MLSD, which has no limit, is preferred where it is on offer."""
    lines = ('ListOptions "" maxfiles 20', "<Limit MLSD MLST>", "DenyAll", "</Limit>")
    with proftpd(tmp_path / "p", *lines) as host:
        for number in range(60):
            write(host.home, f"{number}.html")
        give(host.home)
        async with connected_to(host) as connection:
            found = await (await connection.channel(Lane.BROWSE)).list(SitePath())

    assert len(found.entries) == 60 or not found.is_whole, f"{len(found.entries)} of 60, and called whole"


async def test_a_folder_that_cannot_be_read_is_not_empty(tmp_path: Path) -> None:
    with vsftpd(tmp_path / "p") as host:
        write(host.home, "shut/inside.html")
        give(host.home)
        (host.home / "shut").chmod(0o300)
        async with connected_to(host) as connection:
            found = await (await connection.channel(Lane.BROWSE)).list(path("/shut"))

    assert found.entries == []
    assert found.lack is not None
    assert found.lack.why is Lack.DOUBTED
    assert "failed to open" in found.lack.words


async def test_names_with_line_breaks_cost_no_other_name(tmp_path: Path) -> None:
    for number, server in enumerate((vsftpd, proftpd)):
        with server(tmp_path / str(number)) as host:
            for name in ("one.html", "two\nlines.html", "three.html"):
                write(host.home, name)
            give(host.home)
            async with connected_to(host) as connection:
                found = await (await connection.channel(Lane.BROWSE)).list(SitePath())

        assert {one.name for one in found.entries} == {b"one.html", b"two\nlines.html", b"three.html"}


async def test_a_full_quota_stops_and_says_so(database: object, migrated_url: str, tmp_path: Path) -> None:
    place = tmp_path / "p"
    place.mkdir()
    quota_tables(place, most_bytes=300_000)
    lines = (
        "QuotaEngine on",
        "QuotaDirectoryTally off",
        f"QuotaLimitTable file:{place}/limits",
        f"QuotaTallyTable file:{place}/tallies",
    )
    with proftpd(place, *lines, modules=("mod_quotatab", "mod_quotatab_file")) as host:
        folder = host.home / "site"
        folder.mkdir()
        give(folder)
        async with a_world_on(
            host, tmp_path, migrated_url, folder, protocol=host.protocol, start_there=path_of(host, folder)
        ) as world:
            for number in range(8):
                write(world.here, f"{number}.bin", os.urandom(100_000))

            job = await world.upload(*(f"{number}.bin" for number in range(8)))

            said = await failures(world, job)
            assert job.state is JobState.NEEDS_YOU
            assert "space" in said
            assert not [name for name in hidden(folder) if (folder / name).stat().st_size], said
            landed = tree(folder)
            assert all(landed[name] == (world.here / name).read_bytes() for name in landed if "nailer" not in name)


def quota_tables(place: Path, *, most_bytes: int) -> None:
    """ProFTPD's own tables, made by its own tool."""
    tool = ["perl", str(programs().root / "usr/sbin/ftpquota")]
    for kind, table in (("limit", "limits"), ("tally", "tallies")):
        subprocess.run([*tool, "--create-table", f"--type={kind}", f"--table-path={place / table}"], check=True)
    record = ["--add-record", "--type=limit", f"--name={USER}", "--quota-type=user", "--limit-type=hard"]
    limits = [f"--bytes-upload={most_bytes}", f"--table-path={place / 'limits'}", "--units=byte"]
    subprocess.run([*tool, *record, *limits], check=True)


async def test_an_outage_of_twenty_seconds_heals(database: object, migrated_url: str, tmp_path: Path) -> None:
    """Shortened to three here: the waits grow by the same rule."""
    with vsftpd(tmp_path / "p") as host:
        folder = host.home / "site"
        folder.mkdir()
        give(folder)
        relay = Relay(host.port)
        await relay.start()
        async with a_world_on(
            relay, tmp_path, migrated_url, folder, protocol=host.protocol, start_there=path_of(host, folder)
        ) as world:
            data = {f"{number}.bin": os.urandom(300_000) for number in range(40)}
            for name, content in data.items():
                write(world.here, name, content)
            job_id = await world.planned_up(*data)
            while not list(folder.iterdir()):
                await asyncio.sleep(0.01)
            relay.refuses = True
            await relay.cut()
            await asyncio.sleep(3)
            relay.refuses = False
            job = await world.ended(job_id)
            assert job.state is JobState.DONE, await failures(world, job)
            assert tree(folder) == data
        await relay.stop()


async def test_moving_to_another_file_system_copies_compares_and_removes(
    database: object, migrated_url: str, tmp_path: Path
) -> None:
    with openssh(tmp_path / "p", second_disk=True) as host:
        folder = host.home / "site"
        give(write(folder, "plates/one.bin", os.urandom(300_000)), write(folder, "plates/deep/two.txt", "two"), folder)
        before = tree(folder / "plates")
        async with a_world_on(
            host, tmp_path, migrated_url, folder, identity=host.identity, start_there=path_of(host, folder)
        ) as world:
            target = path_of(host, host.home).child(b"second-disk")
            job_id = await world.nailer.plans.make.move(
                world.account_id, world.site, SideName.THERE, world.top, [b"plates"], target
            )
            (item,) = await world.nailer.stores.jobs.items(job_id)
            async with world.nailer.files.browse.side(world.site, SideName.THERE) as side:
                # What a try that was killed has copied: it goes, and takes nothing with it.
                half = target.child(part_name(job_id, item.id))
                await side.make_folder(half)
                await side.land(half.child(b"half.bin"), once(b"half"))
            job = await world.run(job_id)
            assert job.state is JobState.DONE, await failures(world, job)
            async with world.nailer.files.browse.side(world.site, SideName.THERE) as side:
                listing = await side.list(target)
                moved = {
                    name: b"".join(
                        [chunk async for chunk in side.read(target.join((b"plates", *os.fsencode(name).split(b"/"))))]
                    )
                    for name in before
                }

    assert moved == before
    assert listing.parts == ()
    assert not (folder / "plates").exists()


async def test_a_file_that_cannot_be_read_is_not_announced(tmp_path: Path) -> None:
    """Neither as a download of its own, nor as an empty member of an archive."""
    with openssh(tmp_path / "p") as host:
        write(host.home, "site/open.txt", "open")
        write(host.home, "site/shut.txt", "shut")
        give(host.home)
        (host.home / "site/shut.txt").chmod(0)
        async with connected_to(host) as connection:
            side = await connection.channel(Lane.BROWSE)
            top = path_of(host, host.home)
            with pytest.raises(PermissionRefused):
                await file_to_fetch(side, top.join((b"site", b"shut.txt")))
            packed = b"".join([chunk async for chunk in zipped(side, top, [b"site"])])

    with zipfile.ZipFile(io.BytesIO(packed)) as archive:
        assert archive.read("site/open.txt") == b"open"
        assert "site/shut.txt" not in archive.namelist()
        assert "shut.txt" in archive.read("NOT-INCLUDED.txt").decode()
