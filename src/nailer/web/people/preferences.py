"""A person's own settings: how Nailer looks and works for them, and the keys of the files view."""

from __future__ import annotations

import asyncio
from zoneinfo import available_timezones

from fastapi import APIRouter
from starlette.requests import Request
from starlette.responses import RedirectResponse, Response

from nailer.core.numbers import number_in
from nailer.core.people.preferences import (
    ACT_WORDS,
    USUAL_KEYS,
    Act,
    Column,
    Density,
    DoubleClick,
    FirstPage,
    Preferences,
    Theme,
    checked_keys,
    checked_text_px,
)
from nailer.errors import InvalidInput
from nailer.web.shell import urls
from nailer.web.shell.doors import PeopleDoor, SignedIn
from nailer.web.shell.forms import QueryValues, read_form
from nailer.web.shell.pages import render

router = APIRouter()

_WORDS = {
    "first_page": {FirstPage.SITES: "Sites", FirstPage.LAST: "Last opened site", FirstPage.JOBS: "Jobs"},
    "density": {Density.ROOMY: "Comfortable", Density.CLOSE: "Compact"},
    "double_click": {
        DoubleClick.LOOK: "Preview the file",
        DoubleClick.EDIT: "Edit the file",
        DoubleClick.NOTHING: "Do nothing",
    },
    "theme": {Theme.DEVICE: "Same as the device", Theme.LIGHT: "Light", Theme.DARK: "Dark"},
}
_COLUMN_WORDS = {Column.TIMES: "Last changed", Column.KIND: "Kind (on wide screens)", Column.PERMISSIONS: "Permissions"}


@router.get(urls.PREFERENCES)
async def preferences_page(request: Request, session: SignedIn) -> Response:
    """What the person chose."""
    return await _page(request, session.preferences, {})


@router.post(urls.PREFERENCES)
async def store(request: Request, people: PeopleDoor, session: SignedIn) -> Response:
    """Store what the person chose."""
    form = await read_form(request)
    try:
        chosen = _chosen(form, await asyncio.to_thread(available_timezones))
    except InvalidInput as error:
        return await _page(request, session.preferences, form, error)
    await people.accounts.set_preferences(session, chosen)
    return RedirectResponse(f"{urls.PREFERENCES}?said=stored", 303)


def _chosen(form: dict[str, str], zones: set[str]) -> Preferences:
    zone = form.get("zone", "")
    if zone and zone not in zones:
        raise InvalidInput("This time zone does not exist.", fields={"zone": "Choose a time zone from the list."})
    try:
        picked = Preferences(
            first_page=FirstPage(form.get("first_page", FirstPage.SITES)),
            density=Density(form.get("density", Density.ROOMY)),
            columns=frozenset(one for one in Column if form.get(f"column_{one}") == "yes"),
            zone=zone,
            double_click=DoubleClick(form.get("double_click", DoubleClick.LOOK)),
            theme=Theme(form.get("theme", Theme.DEVICE)),
            text_px=checked_text_px(number_in(form.get("text_px", ""))),
            wraps=form.get("wraps") == "yes",
            keys=checked_keys({act.value: form.get(f"key_{act}", "") for act in Act}),
        )
    except ValueError as error:
        raise InvalidInput("One of the choices is not available. Load the page again.") from error
    return picked


async def _page(
    request: Request, own: Preferences, form: dict[str, str], error: InvalidInput | None = None
) -> Response:
    return render(
        request,
        "people/preferences.html",
        422 if error else 200,
        problem=error.what if error else "",
        chosen=own,
        words=_WORDS,
        column_words=_COLUMN_WORDS,
        acts=[(act, ACT_WORDS[act], form.get(f"key_{act}") or own.all_keys[act], USUAL_KEYS[act]) for act in Act],
        zones=await asyncio.to_thread(lambda: sorted(available_timezones())),
        fields=error.fields if error else {},
        said=QueryValues(request).text("said"),
    )
