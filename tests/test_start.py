"""Starting and ending as a person does it: the real commands, the real processes."""

from __future__ import annotations

import contextlib
import json
import os
import re
import signal
import socket
import subprocess
import sys
import threading
import time
import urllib.error
import urllib.parse
import urllib.request
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

from nailer.errors import SetupFailed
from nailer.settings import OTHER_VARIABLES, Settings, load_settings
from nailer.store.database import Database

ROOT = Path(__file__).parent.parent


class Running:
    """A started command and what it said so far."""

    def __init__(self, process: subprocess.Popen[str], address: str, said: str) -> None:
        self.process = process
        self.address = address
        self.said = said

    def children(self) -> list[int]:
        return [
            int(one) for one in Path(f"/proc/{self.process.pid}/task/{self.process.pid}/children").read_text().split()
        ]

    def first_word(self) -> str:
        """The word that the first account needs, as it is printed."""
        assert self.process.stdout is not None
        for line in self.process.stdout:
            if found := re.search(r"Setup code for the first account: (\S+)", line):
                return found[1]
        raise AssertionError("no word was printed")

    def answers(self) -> bool:
        with urllib.request.urlopen(f"{self.address}health", timeout=5) as response:
            return bool(response.read() == b"ok")


@contextmanager
def running(*arguments: str, env: dict[str, str] | None = None) -> Iterator[Running]:
    process = subprocess.Popen(
        [sys.executable, "-m", "nailer.cli", *arguments],
        stdout=subprocess.PIPE,
        text=True,
        env=_environment() | (env or {}),
    )
    assert process.stdout is not None
    said = ""
    try:
        for line in process.stdout:
            said += line
            found = re.search(r"is running at (http://\S+)", line)
            if found:
                yield Running(process, found[1], said)
                break
        else:
            raise AssertionError(f"it did not start: {said}")
    finally:
        process.terminate()
        process.wait(40)
        process.stdout.close()


def _environment() -> dict[str, str]:
    plain = {key: value for key, value in os.environ.items() if not key.startswith("NAILER_")}
    return plain | {"PYTHONPATH": str(ROOT / "src")}


def run(*arguments: str, env: dict[str, str] | None = None) -> subprocess.CompletedProcess[str]:
    return subprocess.run(
        [sys.executable, "-m", "nailer.cli", *arguments],
        capture_output=True,
        text=True,
        timeout=60,
        check=False,
        env=_environment() | (env or {}),
    )


def gone(pids: list[int]) -> bool:
    deadline = time.monotonic() + 30
    while time.monotonic() < deadline:
        if not any(Path(f"/proc/{pid}").exists() for pid in pids):
            return True
        time.sleep(0.05)
    return False


def test_the_demo_keeps_its_data_survives_a_kill_and_starts_afresh(tmp_path: Path) -> None:
    """One story, as each start costs seconds: first start, stop, second start, kill -9, start, --fresh."""
    home = tmp_path / "demo"
    arguments = ("demo", "--port", "0", "--home", str(home))
    page = home / "here" / "skerry" / "htdocs" / "index.html"

    with running(*arguments) as first:
        assert first.answers()
        assert "gorse-and-gannet" in first.said
        helpers = first.children()
        assert len(helpers) == 2  # the database and the stand-ins
        page.write_text("changed by a person")
    assert gone(helpers)

    with running(*arguments) as second:
        assert second.answers()
        assert page.read_text() == "changed by a person"
        helpers = second.children()
        second.process.kill()
        second.process.wait()
        assert gone(helpers), "whatever a killed Nailer had started ends with it"

    with running(*arguments) as third:
        assert third.answers()
        other = run(*arguments)
        assert (other.returncode, "Another Nailer is running" in other.stdout) == (1, True)

    with running(*arguments, "--fresh") as fourth:
        assert fourth.answers()
        assert page.read_text() != "changed by a person"
        served = json.loads((home / "ports.json").read_text())["skerry"]["web"]
        with urllib.request.urlopen(f"http://127.0.0.31:{served}/timetable.html", timeout=5) as response:
            assert b"Timetable" in response.read()
        with urllib.request.urlopen(f"http://127.0.0.31:{served}/cgi-bin/next-boat.cgi", timeout=5) as response:
            assert b"Next boat" in response.read()


def test_serve_runs_without_the_demo_and_ends_on_ctrl_c(tmp_path: Path) -> None:
    with running("serve", "--port", "0", "--home", str(tmp_path / "home")) as served:
        with urllib.request.urlopen(
            urllib.request.Request(served.address, headers={"Accept": "text/html"}), timeout=5
        ) as response:
            assert response.url.endswith("/first-account")
        helpers = served.children()
        served.process.send_signal(signal.SIGINT)
        served.process.wait(30)

    assert gone(helpers)
    assert (tmp_path / "home" / "seal.key").stat().st_mode & 0o777 == 0o600


_MOMENTS: dict[str, Callable[[Path, str], bool]] = {
    "as it loads": lambda home, said: True,
    "as the database is made": lambda home, said: (home / "mariadb" / "data").exists(),
    "as the database starts": lambda home, said: (home / "mariadb" / "first.sql").exists(),
    "as the database answers": lambda home, said: (home / "mariadb" / "pid").exists(),
    "as Nailer begins": lambda home, said: "is running at" in said,
    "as it waits for its first account": lambda home, said: "Setup code for the first account" in said,
}


@pytest.mark.parametrize(("moment", "number"), list(zip(_MOMENTS, [signal.SIGINT, signal.SIGTERM] * 3, strict=True)))
def test_a_start_ends_whenever_it_is_told_to(tmp_path: Path, moment: str, number: signal.Signals) -> None:
    """It ends by itself, says nothing unreadable, and leaves nobody behind."""
    log = tmp_path / "said"
    with open(log, "w") as out:
        process = subprocess.Popen(
            [sys.executable, "-m", "nailer.cli", "serve", "--port", "0", "--home", str(tmp_path / "home")],
            stdout=out,
            stderr=out,
            env=_environment(),
        )
    until = time.monotonic() + 60
    while not _MOMENTS[moment](tmp_path / "home", log.read_text()) and time.monotonic() < until:
        time.sleep(0.005)

    process.send_signal(number)
    if moment == "as it loads":
        # Python itself may lose one that comes before its first line of Nailer: a person presses again.
        with contextlib.suppress(subprocess.TimeoutExpired):
            process.wait(5)
        if process.poll() is None:
            process.send_signal(number)
    process.wait(20)

    said = log.read_text()
    assert "Traceback" not in said
    assert "did not stop in time" not in said
    # By the signal where Python had not begun to run Nailer.
    assert process.returncode == 130 or (process.returncode == -number and moment == "as it loads")
    assert not [one for one in Path("/proc").glob("[0-9]*") if _runs_on(one, tmp_path)]


def _runs_on(process: Path, home: Path) -> bool:
    """Whether a process of this folder is left, past the moment that the kernel needs to end it."""
    for _ in range(100):
        try:
            if os.fsencode(home) not in (process / "cmdline").read_bytes():
                return False
        except OSError:
            return False
        time.sleep(0.05)
    return True


def test_a_first_page_and_a_signal_at_once_end_nailer(tmp_path: Path) -> None:
    """The signal comes as an answer is on its way: it was lost once, where its handler ran in the middle of other work."""
    for _ in range(3):
        with running("serve", "--port", "0", "--home", str(tmp_path / "home")) as served:
            url = f"{served.address}first-account"
            page = threading.Thread(target=_fetch, args=(url,))
            page.start()
            served.process.send_signal(signal.SIGINT)
            assert served.process.wait(20) == 130
            page.join()


def _fetch(url: str) -> None:
    with contextlib.suppress(OSError), urllib.request.urlopen(url, timeout=10) as response:
        response.read()


def test_a_second_nailer_on_one_database_says_so_and_does_not_start(tmp_path: Path, migrated_url: str) -> None:
    shared = {"NAILER_DATABASE_URL": migrated_url, "NAILER_PORT": "0"}
    with running("serve", env=shared | {"NAILER_HOME": str(tmp_path / "one")}) as first:
        second = run("serve", env=shared | {"NAILER_HOME": str(tmp_path / "two")})

        assert first.answers()
    assert second.returncode == 1
    assert "Another Nailer is running on this database" in second.stdout


def test_a_taken_port_is_one_sentence(tmp_path: Path) -> None:
    with socket.socket() as taken:
        taken.bind(("127.0.0.1", 0))
        taken.listen()
        port = taken.getsockname()[1]
        result = run("demo", "--port", str(port), "--home", str(tmp_path / "demo"))

    assert result.returncode == 1
    assert result.stdout.startswith(f"Nailer cannot start: Port {port} is in use")
    assert "Traceback" not in result.stdout + result.stderr
    assert not (tmp_path / "demo").exists()


def test_a_folder_of_somebody_elses_is_never_cleared(tmp_path: Path) -> None:
    (tmp_path / "precious.txt").write_text("mine")

    result = run("demo", "--fresh", "--port", "0", "--home", str(tmp_path))

    assert result.returncode == 1
    assert "contains other files" in result.stdout
    assert (tmp_path / "precious.txt").read_text() == "mine"


def test_settings_that_cannot_be_used_end_the_command_in_a_sentence(tmp_path: Path) -> None:
    result = run("serve", "--home", str(tmp_path / "home"), env={"NAILER_PORT": "many"})

    assert result.returncode == 1
    assert "port" in result.stdout
    assert "Traceback" not in result.stderr


@pytest.mark.parametrize(
    ("env", "words"),
    [
        ({"NAILER_TIME_ZONE": "Middle/Earth"}, "time zone"),
        ({"NAILER_PROT": "8642"}, "There is no setting NAILER_PROT"),
        ({"NAILER_ROOTS": '{"a/b": "/srv"}'}, "plain name"),
    ],
)
def test_a_setting_that_cannot_be_used_is_said(
    monkeypatch: pytest.MonkeyPatch, env: dict[str, str], words: str
) -> None:
    for name, value in env.items():
        monkeypatch.setenv(name, value)

    with pytest.raises(SetupFailed, match=words):
        load_settings()


def test_an_address_of_no_database_is_said() -> None:
    with pytest.raises(SetupFailed, match="must look like"):
        Database("nonsense")


def test_the_file_of_settings_is_read_and_the_environment_wins(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    file = tmp_path / "settings.json"
    file.write_text('{"port": 1234, "roots": {"sites": "/srv/sites"}}')
    monkeypatch.setenv("NAILER_CONFIG", str(file))
    monkeypatch.setenv("NAILER_PORT", "4321")

    settings = load_settings()

    assert (settings.port, settings.roots) == (4321, {"sites": Path("/srv/sites")})
    file.write_text("{")
    with pytest.raises(SetupFailed, match="cannot be read"):
        load_settings()


def test_every_setting_is_documented() -> None:
    text = (ROOT / "docs" / "settings.md").read_text()

    for name in Settings.model_fields:
        assert f"`{name}`" in text
        assert f"`NAILER_{name.upper()}`" in text
    for name in OTHER_VARIABLES:
        assert f"`{name}`" in text


def posted(address: str, form: dict[str, str], said_to_come_from: str = "") -> str:
    """The page that answers a form, whatever its status."""
    headers = {"accept": "text/html"} | ({"x-forwarded-for": said_to_come_from} if said_to_come_from else {})
    request = urllib.request.Request(address, urllib.parse.urlencode(form).encode(), headers)
    try:
        with urllib.request.urlopen(request, timeout=20) as response:
            return str(response.read().decode())
    except urllib.error.HTTPError as refused:
        return refused.read().decode()


@pytest.mark.parametrize(("trusted", "believed"), [("[]", False), ('["127.0.0.1"]', True)])
def test_what_a_client_says_of_its_address_counts_only_from_a_named_proxy(
    tmp_path: Path, migrated_url: str, database: Database, trusted: str, believed: bool
) -> None:
    here = {"NAILER_HOME": str(tmp_path), "NAILER_PORT": "0", "NAILER_DATABASE_URL": migrated_url}
    with running("serve", env=here | {"NAILER_TRUSTED_PROXIES": trusted}) as nailer:
        made = {"name": "maren", "password": "gannets-and-gorse", "again": "gannets-and-gorse"}
        posted(f"{nailer.address}first-account", made | {"word": nailer.first_word()})
        pages = [
            posted(f"{nailer.address}sign-in", {"name": "maren", "password": "wrong"}, f"192.0.2.{number}")
            for number in range(5)
        ]

    assert ("Try again in" not in pages[-1]) is believed
    assert "Wrong name or password" in pages[0]


def test_people_are_added_and_let_in_again_on_the_server(tmp_path: Path) -> None:
    """While Nailer does not run, and while it does."""
    home = ("--home", str(tmp_path / "home"))

    def accounts(*arguments: str, typed: str = "") -> subprocess.CompletedProcess[str]:
        return subprocess.run(
            [sys.executable, "-m", "nailer.cli", "accounts", *arguments, *home],
            input=typed,
            capture_output=True,
            text=True,
            timeout=90,
            check=False,
            env=_environment(),
        )

    assert accounts("add", "maren", "--runs-nailer", typed="gannets-and-gorse\n").returncode == 0
    assert "at least 10" in accounts("add", "tam", typed="short\n").stdout
    with running("serve", "--port", "0", *home) as nailer:
        signed = {"name": "maren", "password": "gannets-and-gorse"}
        assert "Wrong name or password" not in posted(f"{nailer.address}sign-in", signed)
        assert accounts("list").stdout == "maren\tadministrator\n"
        assert accounts("reset", "maren", typed="kelp-and-kittiwake\n").returncode == 0
        assert "Wrong name or password" in posted(f"{nailer.address}sign-in", signed)
        again = posted(f"{nailer.address}sign-in", signed | {"password": "kelp-and-kittiwake"})
        assert "Wrong name or password" not in again
    missing = accounts("reset", "nobody", typed="x\n")
    assert (missing.returncode, "There is no account named nobody" in missing.stdout) == (1, True)
