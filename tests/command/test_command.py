"""The command line against the demo: a person's day, and a pipeline's night."""

from __future__ import annotations

import json
import os
import re
import stat
import subprocess
import sys
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import httpx2
import pytest

from nailer.command.show import shown
from nailer.standins.demo.scenario import PASSWORD, PERSON, TOKEN
from tests.test_start import ROOT, running

PAGE = {"accept": "text/html"}


@dataclass
class Shell:
    """A shell where `nailer` can be typed."""

    address: str
    home: Path
    token: str
    folder: Path

    def run(self, *words: str, typed: str = "", **env: str) -> subprocess.CompletedProcess[str]:
        plain = {key: value for key, value in os.environ.items() if not key.startswith(("NAILER_", "XDG_"))}
        own = {
            "PYTHONPATH": str(ROOT / "src"),
            "XDG_CONFIG_HOME": str(self.folder / "config"),
            "PYTHON_KEYRING_BACKEND": "keyring.backends.null.Keyring",
        }
        return subprocess.run(
            [sys.executable, "-m", "nailer.main", *words],
            input=typed,
            capture_output=True,
            text=True,
            timeout=120,
            check=False,
            env=plain | own | env,
        )

    def json(self, *words: str) -> Any:
        """What a verb prints for programs: the last line."""
        done = self.run(*words, "--json")
        assert done.returncode == 0, done.stdout + done.stderr
        return json.loads(done.stdout.splitlines()[-1])

    @property
    def here(self) -> Path:
        return self.home / "here" / "skerry" / "htdocs"

    @property
    def there(self) -> Path:
        return self.home / "hosts" / "skerry" / "htdocs"


@pytest.fixture(scope="module")
def shell(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Shell]:
    """Signed in to the demo, with a token of Maren's that is made on the page."""
    folder = tmp_path_factory.mktemp("command")
    home = folder / "demo"
    with running("demo", "--port", "0", "--home", str(home)) as demo:
        with httpx2.Client(base_url=demo.address, headers=PAGE, follow_redirects=True, timeout=60) as page:
            signed = page.post("/sign-in", data={"name": PERSON, "password": PASSWORD})
            found = re.search(r'name="csrf" content="([^"]+)"', signed.text)
            assert found
            csrf = {"csrf": found[1]}
            rights = {f"right_{one}": "yes" for one in ("look", "download", "change", "remove", "sync")}
            assert page.post("/account/confirm", data=csrf | {"proof": PASSWORD}).status_code == 200
            made = page.post("/account/tokens", data=csrf | rights | {"name": "shell", "days": "5", "all": "yes"})
        token = re.search(r'value="(nailer_[\w-]+)"', made.text)
        assert token, made.text
        one = Shell(demo.address, home, token[1], folder)
        signed_in = one.run("sign-in", demo.address, typed=token[1] + "\n")
        assert signed_in.returncode == 0, signed_in.stderr
        yield one


def test_the_token_is_kept_where_only_its_owner_reads_it(shell: Shell) -> None:
    file = shell.folder / "config" / "nailer" / "sign-in.json"

    assert stat.S_IMODE(file.stat().st_mode) == 0o600
    said = shell.run("sites")
    assert shell.token not in said.stdout + said.stderr
    wrong = shell.run("sign-in", shell.address, typed="nailer_guess\n")
    assert (wrong.returncode, "does not exist or has expired" in wrong.stderr) == (1, True)
    assert shell.run("sites").returncode == 0, "a wrong one replaces nothing"


def test_sites_and_folders_are_listed_for_people_and_for_programs(shell: Shell) -> None:
    listed = shell.run("sites").stdout
    assert "Skerry Ferries, staging" in listed
    names = [shown(one["name"]) for one in shell.json("list", "Skerry Ferries")]
    assert {"index.html", "news"} <= set(names)
    assert "news/" in shell.run("list", "Skerry Ferries").stdout
    both = shell.run("list", "skerry")
    assert (both.returncode, "Several sites" in both.stderr) == (1, True)


def test_a_plan_is_printed_first_and_nothing_is_done_without_a_word(shell: Shell) -> None:
    (shell.here / "tonight.html").write_text("<p>tonight")

    plan = shell.run("up", "Skerry Ferries", "tonight.html")
    assert (plan.returncode, "1 new" in plan.stdout) == (3, True)
    assert "--yes" in plan.stderr
    assert not (shell.there / "tonight.html").exists()
    assert shell.run("up", "Skerry Ferries", "tonight.html", "--plan").returncode == 0
    assert not (shell.there / "tonight.html").exists()

    done = shell.run("up", "Skerry Ferries", "tonight.html", "--yes")
    assert done.returncode == 0, done.stderr
    assert "100%" in done.stderr
    assert "\r" not in done.stderr, "in a log the bar draws nothing anew"
    assert (shell.there / "tonight.html").read_text() == "<p>tonight"


def test_down_take_back_and_remove(shell: Shell) -> None:
    (shell.there / "news" / "only-there.html").write_text("<p>there")

    assert shell.run("down", "Skerry Ferries", "news/only-there.html", "--yes").returncode == 0
    assert (shell.here / "news" / "only-there.html").read_text() == "<p>there"
    assert shell.run("remove", "Skerry Ferries", "news/only-there.html", "--yes").returncode == 0
    assert not (shell.there / "news" / "only-there.html").exists()
    job = shell.json("jobs")[0]
    assert shell.run("take-back", str(job["id"]), "--yes").returncode == 0
    assert (shell.there / "news" / "only-there.html").read_text() == "<p>there"


def test_a_night_of_publishing_in_a_pipeline(shell: Shell) -> None:
    """As docs/command-line.md has it: no sign-in on the machine, the token from the pipeline's own secrets."""
    (shell.here / "night.html").write_text("<p>night")
    given = {
        "NAILER_ADDRESS": shell.address,
        "NAILER_TOKEN": TOKEN,
        "XDG_CONFIG_HOME": str(shell.folder / "none"),
    }

    dry = shell.run("sync", "Skerry Ferries", "--direction", "publish", **given)
    assert dry.returncode == 3
    assert not (shell.there / "night.html").exists()
    done = shell.run("sync", "Skerry Ferries", "--direction", "publish", "--yes", **given)

    # Both sides of the demo have changed in places: those wait for a person, all else is published.
    assert done.returncode in (0, 3), done.stderr
    assert (shell.there / "night.html").read_text() == "<p>night"


def test_editing_saves_as_the_editor_does_and_never_over_a_change(shell: Shell) -> None:
    page = shell.there / "news" / "index.html"
    before = page.read_text()
    editor = (
        f"{sys.executable} -c \"import sys; f = sys.argv[1]; t = open(f).read(); open(f, 'w').write(t + '<!-- e -->')\""
    )

    saved = shell.run("edit", "Skerry Ferries", "news/index.html", EDITOR=editor)
    assert saved.returncode == 0, saved.stderr
    assert page.read_text() == before + "<!-- e -->"
    unchanged = shell.run("edit", "Skerry Ferries", "news/index.html", EDITOR="true")
    assert "Nothing was changed" in unchanged.stderr

    script = f"import sys; open({str(page)!r}, 'w').write('<p>theirs'); open(sys.argv[1], 'a').write('mine')"
    meanwhile = f'{sys.executable} -c "{script}"'
    clash = shell.run("edit", "Skerry Ferries", "news/index.html", EDITOR=meanwhile)
    assert (clash.returncode, page.read_text()) == (3, "<p>theirs")
    assert "kept as a draft" in clash.stderr


def test_the_manual_page_has_every_verb_and_a_shell_completes_them(shell: Shell) -> None:
    page = (ROOT / "docs" / "nailer.1").read_text().replace("\\-", "-")
    completion = shell.run("completion", "bash").stdout
    verbs = re.findall(r"^    ([a-z-]+)(?: {2,}|$)", shell.run("--help").stdout, re.M)

    assert len(verbs) >= 14
    assert not [verb for verb in verbs if f"\\,{verb}\\/" not in page]
    assert not [verb for verb in verbs if verb not in completion]


def test_what_is_not_understood_and_what_is_not_there(shell: Shell) -> None:
    assert shell.run("fly").returncode == 2
    missing = shell.run("up", "Skerry Ferries", "no-such-page.html", "--yes")
    assert (missing.returncode, "no longer exists" in missing.stderr) == (1, True), missing.stderr
    nobody = shell.run("sites", NAILER_ADDRESS="http://127.0.0.1:9", NAILER_TOKEN="nailer_x")
    assert (nobody.returncode, "is not responding" in nobody.stderr) == (1, True)
    assert "live" in shell.run("--help").stdout
