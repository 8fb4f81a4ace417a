"""Starts and ends the demo's surroundings: lays it out once, runs the stand-ins in a process of their own."""

from __future__ import annotations

import json
import os
import select
import shutil
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

from nailer.ending import check
from nailer.errors import SetupFailed
from nailer.standins.demo import scenario
from nailer.store.mariadb import die_with_parent

_STOP_WITHIN_S = 1.5  # they keep nothing that could be lost
_READY_WITHIN_S = 30.0


def prepare(home: Path, *, fresh: bool) -> bool:
    """Make the demo's folder ready; True where it was laid out anew and the store has still to be filled.

    A first start that was killed half-way counts as never made. Only a folder that is a demo's own is ever cleared.
    """
    mark, done = home / "a-demo-of-nailer", home / "laid-out"
    try:
        if home.exists() and any(home.iterdir()) and not mark.exists():
            raise SetupFailed(f"{home} contains other files. Use --home to name an empty folder for the demo.")
        if not fresh and done.exists() and done.read_text() == scenario.VERSION:
            return False
        shutil.rmtree(home, ignore_errors=True)
        home.mkdir(parents=True)
        mark.touch()
        scenario.lay_out(home)
    except OSError as error:
        raise SetupFailed(f"The demo's folder {home} cannot be created: {error.strerror}. {_hint(error)}") from error
    return True


def laid_out(home: Path) -> None:
    """The store is filled too: the next start keeps everything."""
    (home / "laid-out").write_text(scenario.VERSION)


def _keep_ports(wanted: dict[str, Any], before: dict[str, dict[str, int]]) -> None:
    for name, one in wanted["hosts"].items():
        if name in before:
            one |= {"port": before[name]["files"], "web_port": before[name].get("web", 0)}
    wanted["proxy"]["port"] = before.get("proxy", {}).get("files", 0)
    wanted["mail"]["port"] = before.get("mail", {}).get("files", 0)
    wanted["desk"]["port"] = before.get("desk", {}).get("web", 0)


def _hint(error: OSError) -> str:
    words = {
        28: "The disk is full. Delete files you no longer need.",
        13: "Use --home to name a folder that you can write to.",
    }
    return words.get(error.errno or 0, "Use --home to name another folder.")


class StandIns:
    """The stand-ins' process."""

    def __init__(self, home: Path) -> None:
        self._home = home
        self._process: subprocess.Popen[str] | None = None

    def start(self) -> dict[str, dict[str, int]]:
        """Start them; return their ports by host. Raises SetupFailed."""
        plan = self._home / "standins.json"
        plan.touch(mode=0o600)
        wanted = scenario.standin_plan(self._home)
        ports = self._home / "ports.json"
        if ports.exists():
            # The same ports as last time where they are free, so that an open public page stays right.
            _keep_ports(wanted, json.loads(ports.read_text()))
        plan.write_text(json.dumps(wanted))
        self._process = subprocess.Popen(
            [sys.executable, "-m", "nailer.standins.serve", os.fspath(plan)],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            text=True,
            start_new_session=True,
            preexec_fn=die_with_parent(),
        )
        found = self._first_line()
        ports.write_text(found)
        result: dict[str, dict[str, int]] = json.loads(found)
        return result

    def stop(self) -> None:
        process, self._process = self._process, None
        if process is None:
            return
        if process.stdin is not None:
            process.stdin.close()
        try:
            process.wait(_STOP_WITHIN_S)
        except subprocess.TimeoutExpired:
            process.kill()
            process.wait()
        if process.stdout is not None:
            process.stdout.close()

    def _first_line(self) -> str:
        process = self._process
        if process is None or process.stdout is None:
            raise SetupFailed("The demo's servers were not started.")
        ready, until = False, time.monotonic() + _READY_WITHIN_S
        while not ready and time.monotonic() < until:
            check()
            ready = bool(select.select([process.stdout], [], [], 0.1)[0])
        line = process.stdout.readline() if ready else ""
        if not line:
            self.stop()
            raise SetupFailed("The demo's servers did not start. Their messages are above.")
        return line
