"""The verbs of the command line. Exit status: 0 done, 1 failed, 2 not understood, 3 a person is needed."""

from __future__ import annotations

import argparse
import getpass
import os
import shlex
import subprocess
import sys
import tempfile
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import shtab

from nailer.command import keys, show
from nailer.command.client import Client, Refused, token_of

FAILED, NEEDS_PERSON = 1, 3


class Stopped(Exception):
    """A command ends here, with a sentence and an exit status."""

    def __init__(self, said: str, status: int = FAILED) -> None:
        super().__init__(said)
        self.status = status


@dataclass(frozen=True, slots=True)
class Asked:
    """A command as it was typed, and the Nailer it goes to."""

    options: argparse.Namespace
    client: Client

    @property
    def for_programs(self) -> bool:
        """True with `--json`."""
        return bool(self.options.json)


def main(arguments: Sequence[str] | None = None) -> int:
    """Run a verb; return its exit status."""
    options = parser().parse_args(arguments)
    try:
        if options.verb == "sign-in":
            return sign_in(options)
        if options.verb == "completion":
            show.say(shtab.complete(parser(), shell=options.shell))
            return 0
        if options.verb == "sign-out":
            keys.forget()
            return 0
        known = keys.known()
        if known is None:
            raise Stopped("Sign in first: nailer sign-in https://nailer.example/")
        status: int = options.act(Asked(options, Client(known.address, known.token)))
        return status
    except Refused as refused:
        show.tell(" ".join((refused.said, *refused.advice)))
        return NEEDS_PERSON if refused.needs_person else FAILED
    except Stopped as stopped:
        show.tell(str(stopped))
        return stopped.status
    except KeyboardInterrupt:
        return 130


Verbs = Any  # argparse has no public name for it


def parser() -> argparse.ArgumentParser:
    """Every verb with what it takes."""
    top = argparse.ArgumentParser(
        prog="nailer",
        description="Transfers site files through a Nailer server. Shows each plan before carrying it out.",
    )
    verbs = top.add_subparsers(dest="verb", required=True, metavar="VERB")
    signing = _verb(verbs, "sign-in", None, "sign in: save the address of a Nailer server and your API token")
    signing.add_argument("address", help="address of Nailer, such as https://nailer.example/")
    _verb(verbs, "sign-out", None, "sign out: delete the saved address and token")
    completing = verbs.add_parser("completion", help="print the shell completion script")
    completing.add_argument("shell", choices=["bash", "zsh", "tcsh"])
    _verb(verbs, "sites", sites, "list your sites")
    listing = _verb(verbs, "list", list_folder, "list a folder of a site", site=True)
    listing.add_argument(
        "folder", nargs="?", default="", help="path below the site's start folder; empty for the start folder itself"
    )
    listing.add_argument(
        "--here", action="store_true", help="list the folder here (on Nailer's machine) instead of there"
    )
    _add_transferring(verbs)
    _add_jobs(verbs)
    for name, act, help_ in (
        ("edit", edit, "edit a file on the server with $EDITOR and save it through Nailer"),
        ("live", live, "check what visitors get for a file on the server"),
    ):
        one = _verb(verbs, name, act, help_, site=True)
        one.add_argument("file", help="below the site's top")
    return top


def _verb(
    verbs: Verbs, name: str, act: Callable[[Asked], int] | None, help_: str, *, site: bool = False
) -> argparse.ArgumentParser:
    one: argparse.ArgumentParser = verbs.add_parser(name, help=help_, description=help_[0].upper() + help_[1:] + ".")
    one.add_argument("--json", action="store_true", help="print JSON, for programs")
    one.set_defaults(act=act)
    if site:
        one.add_argument("site", help="site number, or part of its name")
    return one


def _add_transferring(verbs: Verbs) -> None:
    """What makes a plan and carries it out."""
    for name, to_side, help_ in (
        ("up", "there", "upload files and folders to the server"),
        ("down", "here", "download files and folders from the server"),
        ("remove", "there", "remove names on the server; what is removed is kept"),
    ):
        one = _verb(verbs, name, transfer, help_, site=True)
        one.add_argument("names", nargs="+", help="files and folders below the site's top")
        one.add_argument("--plan", action="store_true", help="only print the plan")
        answers = ["replace", "only-newer", "keep-both", "leave"]
        one.add_argument(
            "--choice", choices=answers, default="replace", help="what to do with files that already exist there"
        )
        one.add_argument("--both-changed", choices=answers, help="what to do with files changed on both sides")
        one.set_defaults(to_side=to_side)
        _add_words(one)
    syncing = _verb(verbs, "sync", sync, "sync a pair of folders after showing a plan", site=True)
    syncing.add_argument("--pair", help="a pair by its number or name; default: the first pair")
    syncing.add_argument("--direction", choices=["publish", "fetch", "level"], default="level")
    syncing.add_argument(
        "--removals", choices=["keep", "follow"], default="keep", help="what to do with files removed on one side"
    )
    _add_words(syncing)


def _add_words(one: argparse.ArgumentParser) -> None:
    one.add_argument("--yes", action="store_true", help="carry out the plan without asking")
    one.add_argument("--typed", default="", help="confirmation word for large removals")


def _add_jobs(verbs: Verbs) -> None:
    """What is done with jobs."""
    _verb(verbs, "jobs", jobs, "list jobs")
    for name, act, help_ in (
        ("follow", follow, "show a job's progress until it ends"),
        ("stop", stop, "stop a job"),
        ("take-back", take_back, "take a whole job back"),
    ):
        one = _verb(verbs, name, act, help_)
        one.add_argument("job", type=int, help="job number")
        if name == "take-back":
            one.add_argument("--yes", action="store_true", help="carry out the plan without asking")


def sign_in(options: argparse.Namespace) -> int:
    """Keep an address and a token, once they work together."""
    token = getpass.getpass("Token: ") if sys.stdin.isatty() else sys.stdin.readline().strip()
    count = len(Client(options.address, token).get("/sites")["items"])
    where = keys.remember(options.address, token)
    show.tell(f"Signed in; {count} site{'' if count == 1 else 's'}. The token is in {where}.")
    return 0


def sites(asked: Asked) -> int:
    """List the sites."""
    found = list(asked.client.all("/sites"))
    if asked.for_programs:
        show.as_json(found)
    else:
        show.table((str(one["id"]), one["name"], show.shown(one["start_there"])) for one in found)
    return 0


def list_folder(asked: Asked) -> int:
    """List a folder."""
    site = _site_of(asked)
    side = "here" if asked.options.here else "there"
    folder = _below(site[f"start_{side}"], asked.options.folder)
    found = list(asked.client.all(f"/sites/{site['id']}/entries", side=side, path=folder, limit=1000))
    if asked.for_programs:
        show.as_json(found)
        return 0
    show.table(
        (
            one.get("permissions") or one.get("access") or "",
            "" if one["size"] is None else show.size(one["size"]),
            (one["modified_at"] or "")[:16].replace("T", " "),
            show.shown(one["name"]) + ("/" if one["kind"] == "folder" else ""),
        )
        for one in found
    )
    return 0


def transfer(asked: Asked) -> int:
    """Plan carrying or removing names, print the plan, and carry it out when that is wanted."""
    site, options = _site_of(asked), asked.options
    does = "remove" if options.verb == "remove" else "transfer"
    status = 0
    for folder, names in _by_folder(options.names).items():
        plan = asked.client.post(
            f"/sites/{site['id']}/plans",
            {
                "does": does,
                "to_side": options.to_side,
                "here": _below(site["start_here"], folder),
                "there": _below(site["start_there"], folder),
                "names": [token_of(name) for name in names],
            },
        )
        status = max(
            status,
            _carry_out(asked, plan, typed=options.typed, choice=options.choice, both_changed=options.both_changed),
        )
    return status


def sync(asked: Asked) -> int:
    """Plan a sync, print the plan, and carry it out when that is wanted. 3 where names wait for a person, or where a folder
    could not be read."""
    site, options = _site_of(asked), asked.options
    pairs = asked.client.get(f"/sites/{site['id']}/pairs")["items"]
    chosen = [one for one in pairs if options.pair in (None, str(one["id"]), one["name"])]
    if not chosen:
        raise Stopped(f"There is no pair {options.pair}. There are: {', '.join(one['name'] for one in pairs)}.")
    wish = {"direction": options.direction, "removals": options.removals}
    plan = asked.client.post(f"/pairs/{chosen[0]['id']}/sync", wish)
    if asked.for_programs:
        show.as_json(plan)
    else:
        show.say(
            f"{chosen[0]['name']}: {plan['sent_there']} to the server, {plan['sent_here']} to here, "
            f"{plan['removed_there']} removed there, {plan['removed_here']} removed here, "
            f"{plan['undecided']} need a decision in Nailer."
        )
        for warning in plan["warnings"]:
            show.tell(warning)
        if plan["not_read"]:
            show.tell(f"Not all was read: {plan['not_read']} of the folders. Files in them were not compared.")
    waits = NEEDS_PERSON if plan["undecided"] or plan["not_read"] else 0
    if not any(plan[name] for name in ("sent_there", "sent_here", "removed_there", "removed_here")):
        return waits
    if not _agreed(asked):
        return NEEDS_PERSON
    run = asked.client.post(f"/sync/{plan['token']}/carry-out", {"typed": options.typed})
    return max([waits, *(_followed(asked, job_id) for job_id in run["jobs"])])


def jobs(asked: Asked) -> int:
    """List the jobs of the first page."""
    found = asked.client.get("/jobs")["items"]
    if asked.for_programs:
        show.as_json(found)
    else:
        show.table((str(one["id"]), one["state"], one["site_name"], one["title"], one["person"]) for one in found)
    return 0


def follow(asked: Asked) -> int:
    """Follow a job."""
    return _followed(asked, asked.options.job)


def stop(asked: Asked) -> int:
    """Stop a job."""
    job = asked.client.post(f"/jobs/{asked.options.job}/stop")
    if asked.for_programs:
        show.as_json(job)
    return 0


def take_back(asked: Asked) -> int:
    """Plan taking a job back, print the plan, and carry it out when that is wanted."""
    return _carry_out(asked, asked.client.post(f"/jobs/{asked.options.job}/plans/take-back"))


def edit(asked: Asked) -> int:
    """Edit a file with $EDITOR. 3 where somebody changed it meanwhile: the text waits as a draft in Nailer."""
    site = _site_of(asked)
    opened = asked.client.post(
        f"/sites/{site['id']}/edit", {"side": "there", "path": _below(site["start_there"], asked.options.file)}
    )
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder) / Path(asked.options.file).name
        file.write_text(opened["text"], "utf-8", newline="")
        editor = shlex.split(os.environ.get("VISUAL") or os.environ.get("EDITOR") or "vi")
        if subprocess.call([*editor, str(file)]) != 0:
            raise Stopped("The editor ended with an error. Nothing was saved.")
        text = file.read_bytes().decode("utf-8")
    if text == opened["text"]:
        show.tell("Nothing was changed.")
        return 0
    saved = asked.client.post(f"/drafts/{opened['draft']}/save", {"text": text, "based_on": opened["based_on"]})
    if asked.for_programs:
        show.as_json(saved)
    for line in (saved["said"], *saved["errors"]):
        show.tell(line)
    return 0 if saved["done"] else NEEDS_PERSON


def live(asked: Asked) -> int:
    """What visitors get. 1 where that is not what lies there."""
    site = _site_of(asked)
    path = _below(site["start_there"], asked.options.file)
    found = asked.client.post(f"/sites/{site['id']}/live", {"path": path})
    if asked.for_programs:
        show.as_json(found)
    else:
        show.say(f"{found['said']} {found['advice']}".strip())
    return 0 if found["finding"] == "live" else FAILED


def _carry_out(
    asked: Asked, plan: dict[str, Any], *, typed: str = "", choice: str = "replace", both_changed: str | None = None
) -> int:
    counts = plan["summary"]
    if asked.for_programs:
        show.as_json(plan)
    else:
        for item in asked.client.all(f"/jobs/{plan['id']}/items", limit=1000):
            show.say(
                f"{item['verdict']:>9}  {show.shown(item['target'])}"
                + (f"  ({item['reason']})" if item["reason"] else "")
            )
        show.say(
            f"{counts['both_changed']} changed on both sides, {counts['new']} new, {counts['replaced']} replaced, "
            f"{counts['same']} the same, {counts['removed']} removed, "
            f"{counts['left']} left out; {show.size(counts['bytes_to_transfer'])}."
        )
    if plan["must_type"] and typed != plan["must_type"]:
        raise Stopped(f"This removal must be confirmed with --typed {shlex.quote(plan['must_type'])}.", NEEDS_PERSON)
    if getattr(asked.options, "plan", False):
        return 0
    if counts["both_changed"] and both_changed is None:
        raise Stopped(
            f"{counts['both_changed']} of them changed on both sides. Use --both-changed to choose what to do with them.",
            NEEDS_PERSON,
        )
    if not _agreed(asked):
        return NEEDS_PERSON
    answers = {"choice": choice, "both_changed": both_changed, "typed": typed}
    job = asked.client.post(f"/plans/{plan['id']}/carry-out", answers)
    return _followed(asked, job["id"])


def _agreed(asked: Asked) -> bool:
    """True where the plan may be carried out: said before, or now."""
    if asked.options.yes:
        return True
    if not sys.stdin.isatty():
        show.tell("Nothing was changed. Add --yes to carry out the plan.")
        return False
    sys.stderr.write("Carry out this plan? [y/N] ")
    sys.stderr.flush()
    return sys.stdin.readline().strip().lower() in ("y", "yes")


def _followed(asked: Asked, job_id: int) -> int:
    """Follow a job to its end; 0 where all is done, 3 where it needs a person."""
    bar, job = show.Bar(), asked.client.get(f"/jobs/{job_id}")
    for job in asked.client.follow(job_id):
        bar.at(job)
    bar.end()
    if asked.for_programs:
        show.as_json(job)
    elif job["trouble"]:
        show.tell(job["trouble"])
    return {"done": 0, "needs-you": NEEDS_PERSON}.get(job["state"], FAILED)


def _site_of(asked: Asked) -> dict[str, Any]:
    """The site that is meant. Raises Stopped."""
    wanted = asked.options.site
    found: list[dict[str, Any]] = list(asked.client.all("/sites"))
    exact = [one for one in found if wanted in (str(one["id"]), one["name"])]
    alike = exact or [one for one in found if wanted.casefold() in one["name"].casefold()]
    if len(alike) != 1:
        names = ", ".join(one["name"] for one in (alike or found)) or "none"
        raise Stopped(f"{'Several sites have' if alike else 'No site has'} {wanted!r} in the name: {names}.")
    return alike[0]


def _below(top: str, typed: str) -> str:
    """A place below a site's top, as the API takes it."""
    bare = typed.strip("/")
    return f"{top.rstrip('/')}/{token_of(bare)}" if bare else top


def _by_folder(names: Sequence[str]) -> dict[str, list[str]]:
    """Names by the folder they lie in: a plan is of one folder."""
    found: dict[str, list[str]] = {}
    for name in names:
        folder, _, last = name.strip("/").rpartition("/")
        found.setdefault(folder, []).append(last)
    return found
