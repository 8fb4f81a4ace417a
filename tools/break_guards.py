"""Breaks lines that guard against a loss, one at a time, and shows that a test notices each. By hand:

    .venv/bin/python tools/break_guards.py [number ...]

Each is the file, what is replaced by what, and the test that must fail then. The file is put back whatever happens.
"""

from __future__ import annotations

import subprocess
import sys
from dataclasses import dataclass
from pathlib import Path

TOP = Path(__file__).parent.parent


@dataclass(frozen=True)
class Guard:
    what: str
    file: str
    line: str
    broken: str
    test: str


GUARDS = (
    Guard(
        "an old content that is not the replaced one is kept",
        "engine/keeper.py",
        "if same_content(seen(there), was) and await",
        "if await",
        "tests/engine/test_guards.py::test_what_is_kept_is_what_is_replaced_not_what_was_level",
    ),
    Guard(
        "no last look before renaming over",
        "engine/landing.py",
        '        if now is None or not still_as(now, there):\n            raise Conflict(f"Someone changed {item',
        '        if now is None:\n            raise Conflict(f"Someone changed {item',
        "tests/engine/test_guards.py::test_what_somebody_writes_while_the_new_one_is_on_its_way_stays",
    ),
    Guard(
        "a dead runner's change counts as made because any file is there",
        "engine/transferring.py",
        "now is not None and after is not None and _as_announced(now, after)",
        "now is not None and after is not None",
        "tests/engine/test_guards.py::test_a_dead_runners_change_is_made_only_where_its_content_stands",
    ),
    Guard(
        "a size mismatch while keeping",
        "engine/keeper.py",
        "        if kept.size != there.size:",
        "        if kept.size > there.size:",
        "tests/engine/test_guards.py::test_a_copy_that_came_short_while_it_was_kept_is_none",
    ),
    Guard(
        "a folder that was not read is removed because it is in the way",
        "core/files/tree.py",
        "for unsure in (self.problems, self.lacks) for below in unsure",
        "for unsure in (self.lacks,) for below in unsure",
        "tests/core/pairs/test_steps.py -k in_the_way_that_is_not_all_known",
    ),
    Guard(
        "a folder whose listing may be cut is removed because it is in the way",
        "core/files/tree.py",
        "for unsure in (self.problems, self.lacks) for below in unsure",
        "for unsure in (self.problems,) for below in unsure",
        "tests/core/pairs/test_steps.py -k in_the_way_that_is_not_all_known",
    ),
    Guard(
        "another certificate on a data channel than on its line",
        "sides/ftp/channels.py",
        "if not shown.session_reused and shown.getpeercert(binary_form=True) != own:",
        "if shown is None:",
        "tests/sides/ftp/test_side.py::test_a_data_channel_with_another_certificate_is_refused",
    ),
    Guard(
        "active mode taking a connection from a third address",
        "sides/ftp/channels.py",
        "                if address[0] == peer_host:",
        "                if address:",
        "tests/sides/ftp/test_side.py::test_only_the_server_may_reach_an_active_port",
    ),
    Guard(
        "a merged text kept after another choice",
        "services/pairs/decisions.py",
        "if number not in rows}",
        "}",
        "tests/services/pairs/test_choices.py::test_a_merged_text_goes_with_another_choice",
    ),
    Guard(
        "same-site requests",
        "web/shell/guard.py",
        'return site in ("same-origin", "none")',
        'return site in ("same-origin", "same-site", "none")',
        "tests/web/shell/test_door.py::test_another_site_of_the_same_domain_is_another_site",
    ),
    Guard(
        "a password on the wire unmasked",
        "sides/ftp/line.py",
        "if verb.upper() in _SECRET_COMMANDS else command",
        'if verb.upper() == b"ACCT" else command',
        "tests/sides/ftp/test_look.py::test_a_line_masks_what_it_signs_in_with_by_itself",
    ),
    Guard(
        "the live file is removed where renaming over it is refused",
        "engine/swap.py",
        "        await _set_aside(side, swap, taken)\n",
        "        await side.remove_file(swap.target)\n",
        "tests/rough/test_swapping.py -k renames_nothing",
    ),
    Guard(
        "the words of a good reply are not read",
        "core/files/completeness.py",
        "    if _CUT.search(lower):",
        "    if _CUT.search(''):",
        "tests/rough/test_listings.py -k list-says-cut",
    ),
    Guard(
        "unread rows are dropped in silence",
        "sides/ftp/look.py",
        "        if rows.unread:\n            return Incomplete(Lack.UNREAD",
        "        if rows.unread and not rows.entries:\n            return Incomplete(Lack.UNREAD",
        "tests/sides/ftp/test_look.py -k says_why",
    ),
    Guard(
        "resuming without proof",
        "engine/sending.py",
        "        if size == at and bytes(hashed.digest()) == proof.digest:",
        "        if size == at:",
        "tests/engine/test_resuming.py",
    ),
    Guard(
        "a renaming by SFTP is believed",
        "sides/sftp/changing.py",
        "            await self._see_renamed(looking, old, new, was)\n",
        "            pass\n",
        "tests/rough/test_seen.py -k replaced",
    ),
    Guard(
        "a renaming by FTP is believed",
        "sides/ftp/renaming.py",
        "            await see_renamed(self._side.look_anew, moving.old, moving.new, moving.was)\n",
        "            pass\n",
        "tests/rough/test_seen.py -k replaced",
    ),
    Guard(
        "a removal is believed",
        "sides/seen.py",
        "        if await look(path) is None:\n",
        "        if True:\n",
        "tests/rough/test_seen.py -k removed",
    ),
    Guard(
        "the live name is not looked at where a swap fails",
        "engine/swap.py",
        "    now = await look(side, swap.target)\n",
        "    now = swap.before\n",
        "tests/rough/test_seen.py -k eats",
    ),
    Guard(
        "half an upload is taken for whole",
        "services/plans/uploads.py",
        "        if came != item.entry.size:\n",
        "        if came > item.entry.size:\n",
        "tests/web/plans -k 'resum or upload or part'",
    ),
    Guard(
        "the old content is not kept before it is replaced",
        "engine/landing.py",
        "(part, landed), kept = await both(landing, self.keeper.keep(item, there, level))",
        "(part, landed), kept = await landing, None",
        "tests/engine/test_guards.py tests/engine/test_carry.py",
    ),
    Guard(
        "there found empty empties here",
        "core/pairs/proposals.py",
        'so nothing is removed here" if there.is_empty else ""',
        'so nothing is removed here" if False else ""',
        "tests/core/pairs",
    ),
    Guard(
        "a keep mark does not hold a file that is moved",
        "engine/transferring.py",
        "        path = item.source if item.action is Action.MOVE else item.target\n",
        "        path = item.target\n",
        "tests/services/files tests/engine/test_copying.py -k 'keep or mark or move'",
    ),
    Guard(
        "a keep mark does not hold a file that a sync renames",
        "core/pairs/steps.py",
        "        if why := self._kept(self._side, old):\n",
        "        if why := '':\n",
        "tests/core/pairs tests/services/pairs -k 'keep or mark or kept'",
    ),
    Guard(
        "no word is asked for what is too large to keep",
        "services/plans/removal.py",
        "    if plan.first_unkept is not None:\n",
        "    if False:\n",
        "tests/services/plans/test_removing.py",
    ),
    Guard(
        "a killed removal is not counted as made",
        "engine/transferring.py",
        "            happened = now is None\n",
        "            happened = False\n",
        "tests/engine/test_guards.py tests/engine/test_leases.py tests/engine/test_carry.py",
    ),
    Guard(
        "jobs of other machines are released",
        "engine/owners.py",
        "    return host == socket.gethostname()[:30] and not",
        "    return not",
        "tests/engine/test_leases.py tests/engine/test_work.py",
    ),
    Guard(
        "a right that is taken back does not stop a running job",
        "engine/runner.py",
        "        if not may or now != self._rights:\n",
        "        if False:\n",
        "tests/engine tests/web/people -k 'right or taken'",
    ),
    Guard(
        "a version with wrong bytes of the right size is put in place",
        "services/packages/replacing/building.py",
        "        if said is None or one.digest is None or await hashed(one.digest, said.algorithm) == said.value:\n",
        "        if True:\n",
        "tests/services/packages/test_building.py",
    ),
    Guard(
        "a certificate is looked at on a private address",
        "services/checks/addresses.py",
        "        if not may_be_fetched(address, self._reaching.allowed):\n",
        "        if False:\n",
        "tests/services/checks/test_addresses.py",
    ),
    Guard(
        "pages are looked at once after a job",
        "services/checks/watching.py",
        "            await asyncio.sleep(_SECOND_LOOK_S)\n            worse = await self._worse(watch)\n",
        "            pass\n",
        "tests/services/checks/test_watching.py",
    ),
    Guard(
        "a passkey's challenge counts twice",
        "services/people/second.py",
        'self._challenges.pop(session.key, (b"", 0.0))',
        'self._challenges.get(session.key, (b"", 0.0))',
        "tests/services/people/test_second.py",
    ),
    Guard(
        "the old password is guessed from an open session",
        "services/people/accounts.py",
        "        account = await self._store.get(session.account_id)\n"
        "        await self._throttle.count(account.name, from_.address)\n",
        "        account = await self._store.get(session.account_id)\n",
        "tests/web/people tests/services/people -k 'password or guess or gate'",
    ),
    Guard(
        "unpacking fills the disk",
        "services/plans/unpacking/archives.py",
        "        if self.written > self.room_bytes - _SPARE_BYTES:\n",
        "        if False:\n",
        "tests/services/plans/test_archives.py tests/engine/test_disk_full.py",
    ),
    Guard(
        "a guarded folder stays open for longer than is said",
        "services/files/guarded.py",
        "self._open_until_s[(account_id, site.id, folder)] = time.monotonic() + OPEN_S",
        "self._open_until_s[(account_id, site.id, folder)] = time.monotonic() + OPEN_S * 4",
        "tests/services/files/test_guarded.py",
    ),
    Guard(
        "a copy is called verified without a look at its contents",
        "store/packages/copies.py",
        "            if missing > 0:\n",
        "            if False:\n",
        "tests/services/packages/test_copies.py",
    ),
    Guard(
        "an older decision of a pair is carried out",
        "services/pairs/runs.py",
        "            if number is not None and number != plan.decided.number:\n",
        "            if False:\n",
        "tests/services/pairs/test_decisions.py",
    ),
    Guard(
        "whoever lost its lease writes the end of work",
        "store/running/works.py",
        '            if not work.run("works.end", id=one.id, owner=owner):\n',
        '            if work.run("works.end", id=one.id, owner=owner) is None:\n',
        "tests/engine/test_work.py",
    ),
)


def notices(guard: Guard) -> bool:
    """Whether a test fails once the line is broken."""
    file = TOP / "src" / "nailer" / guard.file
    whole = file.read_text()
    if whole.count(guard.line) != 1:
        raise SystemExit(f"{guard.what}: the line stands {whole.count(guard.line)} times in {guard.file}")
    try:
        file.write_text(whole.replace(guard.line, guard.broken))
        command = f"{sys.executable} -m pytest -q -x -p no:cacheprovider {guard.test}"
        return subprocess.run(command, shell=True, cwd=TOP, capture_output=True, check=False).returncode == 1  # noqa: S602
    finally:
        file.write_text(whole)


def main() -> int:
    chosen = [int(one) for one in sys.argv[1:]] or range(1, len(GUARDS) + 1)
    unnoticed = 0
    for number in chosen:
        guard = GUARDS[number - 1]
        found = notices(guard)
        unnoticed += not found
        sys.stdout.write(f"{number:2} {'noticed' if found else 'UNNOTICED'}: {guard.what}\n")
        sys.stdout.flush()
    return 1 if unnoticed else 0


if __name__ == "__main__":
    sys.exit(main())
