"""Exchanging names: the old package aside, the new one in its place; and back. Wherever that is cut, who comes next sees
by the names how far it came, and goes on."""

from __future__ import annotations

from dataclasses import dataclass

from nailer.core.files.names import package_beside
from nailer.core.files.sitepath import SitePath
from nailer.errors import Conflict, FileMissing, NailerError
from nailer.sides.side import Side, is_there, refused
from nailer.unbroken import unbroken


@dataclass(frozen=True, slots=True)
class Exchange:
    """`place` is the package's own name. What lies at `comes` takes it (None: nothing does), what has it goes to `goes`
    (None: nothing has it). `returns`: what comes was there before, and may also take a name that nobody has."""

    place: SitePath
    comes: SitePath | None
    goes: SitePath | None
    returns: bool = False


async def exchange(side: Side, names: Exchange) -> None:
    """Bring an exchange to its end, wherever it stands. Raises what renaming raises, with everything as it was where the
    new one is refused; Conflict where the names are not as an exchange can leave them; what heals is to be tried again."""
    has_place, has_comes, has_goes = [await _has(side, one) for one in (names.place, names.comes, names.goes)]
    left = names.goes is not None and has_place and not has_goes
    if names.comes is None:
        if left and names.goes is not None:
            await unbroken(side.rename(names.place, names.goes))
        elif has_place or not has_goes:
            raise _unlike(names)
        return
    if not has_comes:
        if has_place and (names.goes is None or has_goes):
            return  # done
        raise _unlike(names)
    if names.goes is None:
        await unbroken(side.rename(names.comes, names.place))
    elif left:
        await unbroken(_both(side, names.place, names.goes, names.comes))
    elif has_goes and not has_place:
        await _in(side, names.comes, names.place, names.goes)
    elif names.returns and not has_place:
        await unbroken(side.rename(names.comes, names.place))  # somebody took the new one away by hand
    else:
        raise _unlike(names)


async def _has(side: Side, path: SitePath | None) -> bool:
    return path is not None and await is_there(side, path)


def _unlike(names: Exchange) -> Conflict:
    hidden = " and ".join(f"{one.name.decode('utf-8', 'replace')}" for one in (names.comes, names.goes) if one)
    return Conflict(
        f"{names.place} and what is next to it ({hidden}) have been renamed by someone. Check the folder "
        "before you continue."
    )


async def _both(side: Side, place: SitePath, goes: SitePath, comes: SitePath) -> None:
    """Both renames, sent together: hardly anybody finds the name missing between them."""
    away, into = await side.rename_both((place, goes), (comes, place))
    if away is not None:
        if into is None:
            raise _unlike(Exchange(place, comes, goes)) from away
        raise away
    if into is not None:
        await _in(side, comes, place, goes)  # a server that did not keep the order refused it; its turn is now


async def _in(side: Side, comes: SitePath, place: SitePath, goes: SitePath) -> None:
    """The second rename; where it is refused the first is taken back."""
    try:
        await side.rename(comes, place, looked=True)
    except NailerError as refused:
        if refused.retryable:
            raise
        if await is_there(side, place) and not await is_there(side, comes):
            return  # it was refused in words only
        await side.rename(goes, place, looked=True)
        raise


async def kept_still(side: Side, path: SitePath | None) -> bool:
    """True where the old one lies beside the package still."""
    if path is None:
        return False
    try:
        await side.stat(path)
    except FileMissing:
        return False
    return True


async def takes_hidden_names(side: Side, folder: SitePath, token: str) -> bool:
    """Whether a folder can be given a name that begins with a dot, tried on an empty one of our own; `token` is sixteen hex
    digits, the same ones where a cut try is made again. True where it could not be tried: what then fails is said by what is
    done. Raises what heals."""
    plain = folder.child(package_beside(b"nailer-try", token, hidden=False)[0])
    hidden = folder.child(package_beside(b"nailer-try", token)[0])
    for left in (plain, hidden):
        await refused(side.remove_folder(left))  # a cut try may have left it
    if await refused(side.make_folder(plain)) is not None:
        return True
    answer = await refused(side.rename(plain, hidden, looked=True))
    await refused(side.remove_folder(plain if answer is not None else hidden))
    return answer is None
