"""The script helper goes down the list, and each slip is mended in one step; the stand-in web server really runs it."""

from __future__ import annotations

import stat

import pytest

from nailer.core.check.scripts import Repair
from nailer.core.files.sitepath import SitePath
from nailer.core.jobs.states import JobState
from nailer.errors import InvalidInput
from nailer.services.editing.scripts import Report
from tests.builders import tree, write
from tests.services.editing.test_live_check import RUNS, Web, web  # noqa: F401 - a fixture
from tests.world import THERE, World

PATH = THERE.join((b"cgi-bin", b"run.cgi"))


async def look(world: World, path: SitePath = PATH) -> Report:
    return await world.nailer.editing.scripts.look(world.site, path)


def marks(report: Report) -> dict[str, bool | None]:
    return {one.what: one.good for one in report.marks}


async def mend(world: World, repair: Repair, path: SitePath = PATH) -> None:
    job_id = await world.nailer.editing.scripts.repair(world.account_id, world.site, path, repair)
    assert (await world.ended(job_id)).state is JobState.DONE


async def test_a_script_that_is_well_has_nothing_in_its_way(web: Web) -> None:  # noqa: F811
    web.world.host.shell = True
    write(web.world.there, "cgi-bin/run.cgi", RUNS).chmod(0o755)

    report = await look(web.world)

    assert report.first_slip is None, report.first_slip
    assert marks(report) == dict.fromkeys(
        [
            *(
                "Place",
                "Ending",
                "Run permission",
                "Folders above it",
                "First bytes",
                "Line ends",
                "Interpreter",
                "Syntax",
            ),
            "What the web answers",
        ],
        True,
    )


async def test_slips_are_met_in_order_and_mended_step_by_step(web: Web) -> None:  # noqa: F811
    world = web.world
    file = write(world.there, "cgi-bin/run.cgi", "\ufeff" + RUNS.replace("\n", "\r\n"))
    file.chmod(0o644)
    file.parent.chmod(0o700)

    report = await look(world)
    assert report.marks[-1].words.startswith("403")
    assert {one.what: one.repair for one in report.marks if one.good is False} == {
        "Run permission": Repair.PERMISSIONS,
        "Folders above it": Repair.FOLDERS,
        "First bytes": Repair.FIRST_LINE,
        "Line ends": Repair.FIRST_LINE,
        "What the web answers": Repair.PERMISSIONS,
    }
    await mend(world, Repair.PERMISSIONS)
    await mend(world, Repair.FOLDERS)
    assert (await look(world)).marks[-1].words.startswith("500")
    await mend(world, Repair.FIRST_LINE)

    assert (await look(world)).first_slip is None
    assert file.read_text() == RUNS
    assert stat.S_IMODE(file.stat().st_mode) == 0o755
    assert stat.S_IMODE(file.parent.stat().st_mode) == 0o711
    with pytest.raises(InvalidInput):
        await mend(world, Repair.FIRST_LINE)


async def test_interpreter_and_syntax_are_asked_on_the_server(world: World) -> None:
    world.host.shell = True
    write(world.there, "cgi-bin/run.cgi", "#!/usr/bin/no-such-thing\n").chmod(0o755)
    assert marks(await look(world))["Interpreter"] is False

    write(world.there, "cgi-bin/run.cgi", "#!/bin/sh\nif true; then\n").chmod(0o755)
    found = await look(world)
    assert marks(found)["Interpreter"] is True
    (syntax,) = [one for one in found.marks if one.what == "Syntax"]
    assert syntax.good is False
    assert "end of file" in syntax.words.lower()

    write(world.there, "cgi-bin/a b'c.py", "#!/usr/bin/env python3\nprint(\n").chmod(0o755)
    found = await look(world, THERE.join((b"cgi-bin", b"a b'c.py")))
    assert marks(found)["Syntax"] is False


async def test_without_a_shell_that_is_said_and_nothing_is_guessed(world: World) -> None:
    write(world.there, "cgi-bin/run.cgi", RUNS).chmod(0o755)

    found = marks(await look(world))

    assert found["Interpreter"] is None
    assert found["Syntax"] is None


async def test_a_script_whose_source_is_shown_is_taken_down_by_a_plan(web: Web) -> None:  # noqa: F811
    world = web.world
    write(world.there, "bin/run.pl", RUNS).chmod(0o755)
    path = THERE.join((b"bin", b"run.pl"))
    report = await look(world, path)
    assert report.marks[-1].repair is Repair.TAKE_DOWN

    plan = await world.nailer.editing.scripts.repair(world.account_id, world.site, path, Repair.TAKE_DOWN)
    assert tree(world.there) == {"bin/run.pl": RUNS.encode()}
    assert (await world.run(plan)).state is JobState.DONE
    assert tree(world.there) == {}


async def test_scripts_are_found_in_what_the_web_serves(world: World) -> None:
    write(world.there, "cgi-bin/run.cgi", RUNS)
    write(world.there, "deep/er/x.pl", RUNS)
    write(world.there, "index.php", "x")
    write(world.there.parent, "cgi-bin/beside.cgi", RUNS)

    found = await world.nailer.editing.scripts.find(world.site)

    assert {path.name for path in found} == {b"run.cgi", b"x.pl", b"beside.cgi"}


async def test_a_script_that_others_bring_in_is_not_called_wrong(world: World) -> None:
    write(world.there, "cgi-bin/board.cgi", "#!/usr/bin/perl\nrequire './board-lib.pl';\n")
    write(world.there, "cgi-bin/board-lib.pl", "sub today { 1 }\n1;\n")
    (world.there / "cgi-bin" / "board-lib.pl").chmod(0o644)

    report = await look(world, THERE.join((b"cgi-bin", b"board-lib.pl")))

    assert report.first_slip is None
    assert [(one.what, one.good) for one in report.marks] == [("Included", True)]
    assert "board.cgi" in report.marks[0].words
