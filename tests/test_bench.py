"""Every case of the bench runs, on little: not what it says is looked at, only that it can still say it."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path

from bench.__main__ import CASES

HOME = Path(__file__).parent.parent


def test_every_case_of_the_bench_runs(tmp_path: Path) -> None:
    kept = tmp_path / "bench.json"
    path = os.pathsep.join((str(HOME / "src"), str(HOME)))
    command = [sys.executable, "-m", "bench", "--little", "--json", str(kept)]
    done = subprocess.run(
        command,
        cwd=HOME,
        env=os.environ | {"PYTHONPATH": path},
        capture_output=True,
        text=True,
        check=False,
        timeout=200,
    )
    assert done.returncode == 0, done.stdout + done.stderr

    results = json.loads(kept.read_text())["results"]
    measured = [one for one in results if "ratio" in one]
    assert len(results) == len(CASES)
    assert all(one["ratio"] > 0 and len(one["nailer_s"]) == 1 for one in measured)
    assert len(measured) == len(CASES) - 2, "the views and the memory say figures of their own"
