"""The files of the demo's sites, as bytes by path. Which side holds which version is said in `scenario.py`."""

from __future__ import annotations

import io
import json
import zipfile
from collections.abc import Mapping
from importlib import resources

from nailer.standins.demo.pictures import png, svg_scene, svg_tile

_PLACES = ("Skerry Pier", "Gannet Head", "Norrawick", "Holm of Quoy", "Sandvoe", "Little Aith")
_PAGES = {
    "index.html": "Skerry Ferries",
    "fares.html": "Fares",
    "timetable.html": "Timetable",
    "contact.html": "Find us",
    "freight.html": "Freight and vehicles",
    "news/index.html": "From the pier",
    "news/new-winch.html": "A new winch for the Kittiwake",
}


def page(title: str, body: str, *, season: str = "summer") -> bytes:
    """A page of the ferry company."""
    links = "".join(f'<li><a href="/{name}">{text}</a></li>' for name, text in list(_PAGES.items())[:5])
    return (
        f'<!doctype html>\n<html lang="en">\n<head>\n<meta charset="utf-8">\n'
        f'<meta name="viewport" content="width=device-width, initial-scale=1">\n<title>{title} · Skerry Ferries</title>\n'
        f'<link rel="stylesheet" href="/site.css">\n<link rel="stylesheet" href="/skins/harbour/type/harbour.css">\n</head>\n'
        f'<body class="{season}">\n<header><img src="/img/pier.svg" alt="The pier in the morning" width="320" height="200">\n'
        f"<h1>{title}</h1><nav><ul>{links}</ul></nav></header>\n<main>\n{body}\n</main>\n"
        f"<footer><p>Skerry Ferries, two boats and a winch since 1961.</p></footer>\n</body>\n</html>\n"
    ).encode()


def _sailings_table(count: int) -> str:
    rows = "".join(
        f'<tr class="sailing"><td><time>{6 + number // 2:02d}:{number % 2 * 30:02d}</time></td>'
        f"<td>{_PLACES[number % 6]}</td><td>{_PLACES[(number + 2) % 6]}</td><td>{'Kittiwake' if number % 3 else 'Tern'}</td></tr>\n"
        for number in range(count)
    )
    return f"<table><caption>Sailings</caption>\n{rows}</table>"


def sailings(count: int) -> bytes:
    """The data the timetable is made from."""
    rows = [
        {
            "leaves": f"{6 + n // 2:02d}:{n % 2 * 30:02d}",
            "from": _PLACES[n % 6],
            "to": _PLACES[(n + 2) % 6],
            "boat": "Tern",
        }
        for n in range(count)
    ]
    return json.dumps({"season": "winter", "sailings": rows}, indent=1).encode() + b"\n"


def style(*, version: int) -> bytes:
    """The site's style; the second version has roomier rows and a mark for late boats."""
    padding = ".2rem" if version == 1 else ".55rem"
    parts = [
        ":root { --deep: #14546a; --foam: #e2ddd2; --buoy: #b2501d; }",
        "body { margin: 0 auto; max-width: 62rem; font: 1.05rem/1.6 system-ui, sans-serif; color: #1a252c; background: #f6f4ef; }",
        "header { display: grid; gap: 1rem; padding: 1.5rem; } header img { width: 100%; height: 14rem; object-fit: cover; border-radius: 12px; }",
        "h1 { margin: 0; color: var(--deep); } nav ul { display: flex; gap: 1.2rem; list-style: none; padding: 0; flex-wrap: wrap; }",
        "main, footer { padding: 0 1.5rem 2rem; } table { width: 100%; border-collapse: collapse; } caption { text-align: left; font-weight: 600; }",
        f".sailing td {{ padding: {padding} 0; border-bottom: 1px solid var(--foam); }}",
        ".sailing time { font-variant-numeric: tabular-nums; font-weight: 600; }",
    ]
    if version == 2:
        parts.append('.sailing[data-state="late"] { border-left: 4px solid var(--buoy); }')
    parts += [f".berth-{n} {{ grid-row: {n}; color: hsl({190 + n} 40% {20 + n % 30}%); }}" for n in range(260)]
    return "\n".join(parts).encode() + b"\n"


def clock_script() -> bytes:
    """A script that the stand-in web server really runs."""
    return (
        b"#!/bin/sh\n# Says when the next boat leaves.\n"
        b'printf "Content-Type: text/plain\\n\\n"\nprintf "Next boat from Skerry Pier: "\ndate -d "+25 minutes" +%H:%M\n'
    )


def crew_page() -> bytes:
    """A page with pictures: one that nobody has, one only here, one in another writing, one far larger than shown."""
    shown = (
        ("/crew/harbour-wide.jpg", "The harbour from the north", 620),
        ("deck.png", "The Tern's deck", 320),
        ("Crew.jpg", "All of us", 400),
        ("/img/pier-east.png", "The east pier", 320),
    )
    pictures = "".join(f'<p><img src="{name}" alt="{text}" width="{width}"></p>' for name, text, width in shown)
    return page("Crew", f"<p>Five people, two boats, a winch.</p>{pictures}")


_ADDONS = (
    ("tide-clock", "Tide clock", "1.4.0"),
    ("postcards", "Postcards", "0.8.2"),
    ("fog-banner", "Fog banner", "1.1.0"),
    ("gull-counter", "Gull counter", "2.10.0"),
    ("knot-of-the-day", "Knot of the day", "0.9"),
    ("night-light", "Night light", "3.0.1"),
    ("harbour-radio", "Harbour radio", "1.0"),
    ("pennants", "Pennants", "2.2"),
    ("lost-and-found", "Lost and found", "1.3"),
)
BROKEN_ADDON = "gull-counter"


def addons() -> dict[str, bytes]:
    """The add-ons of the notice board; one of them ends the page."""
    files: dict[str, bytes] = {}
    for folder, name, version in _ADDONS:
        said = {"name": name, "version": version, "by": "Gorse & Gannet"}
        files[f"{folder}/addon.json"] = json.dumps(said, indent=1).encode() + b"\n"
        files[f"{folder}/part.sh"] = f'board="$board<li>{name} {version}</li>"\n'.encode()
        files[f"{folder}/look.css"] = f".{folder} {{ color: #12566f; }}\n".encode()
    files[f"{BROKEN_ADDON}/part.sh"] += b'. "$gulls/counted-today.sh"\n'
    return files


def board_script() -> bytes:
    """The notice board: a page of what all add-ons say."""
    return b"""#!/bin/sh
set -e
board=
for part in ../add-ons/*/part.sh; do
  if [ -e "$part" ]; then . "$part"; fi
done
printf 'Content-Type: text/html; charset=utf-8\\n\\n'
printf '<!doctype html><title>Notice board</title><h1>Notice board</h1><ul>%s</ul>\\n' "$board"
"""


def tide_script() -> bytes:
    """A page made by a script that needs a second file beside it."""
    return (
        b"#!/bin/sh\nset -e\n. ./tide-table.sh\nprintf 'Content-Type: text/html; charset=utf-8\\n\\n'\n"
        b"printf '<!doctype html><title>Tides</title><h1>Tides</h1><p>Next high water: %s</p>\\n' \"$next_high\"\n"
    )


def error_log() -> bytes:
    """Lines of a server's error log from days that are over."""
    return b"".join(
        b"[%s] [core:error] [client 192.0.2.%d:40%d] file not found: /htdocs/%s\n" % (stamp, number, number, name)
        for number, (stamp, name) in enumerate(
            (
                (b"Mon Nov 02 07:12:40.201733 2026", b"favicon.ico"),
                (b"Tue Nov 03 19:44:02.551020 2026", b"img/winch.png"),
            ),
            start=11,
        )
    )


def tide_table() -> bytes:
    """What the tide script reads."""
    return b'next_high="17:42 at the east pier"\n'


def hosts_own_page() -> bytes:
    """A first page that the host left behind."""
    return b"<!doctype html><title>News</title><h1>Here is room for your news.</h1>\n"


def skin(version: str) -> dict[str, bytes]:
    """The harbour skin: several hundred small files in folders. 1.5.0 has new icons, other words, and one part less."""
    is_new = version >= "1.5"
    files: dict[str, bytes] = {
        "skin.json": json.dumps({"name": "Harbour", "version": version, "files": 412}, indent=1).encode() + b"\n",
        "README.txt": f"Harbour {version}, a skin of Gorse & Gannet.\n".encode(),
        "type/harbour.css": _harbour_style(wide=is_new),
    }
    for number in range(280):
        files[f"tiles/{number // 40}/harbour-{number:03d}.svg"] = svg_tile(number)
    for number in range(71 if is_new else 72):
        words = "Wind, tide and swell. " if is_new and number % 9 == 0 else "Wind and tide. "
        part = f'<section class="part part-{number}"><h2>{_PLACES[number % 6]}</h2><p>{words * (3 + number % 9)}</p></section>\n'
        files[f"parts/{_PLACES[number % 6].split()[0].lower()}-{number:02d}.html"] = part.encode()
    for number in range(46 if is_new else 40):
        files[f"icons/boat-{number:02d}.png"] = png(24, 24, number)
    for number in range(17):
        files[f"type/size-{number:02d}.css"] = f".s{number} {{ font-size: {0.6 + number / 10:.1f}rem; }}\n".encode()
    return files


def _harbour_style(*, wide: bool) -> bytes:
    spacing, width = ("-.02em", "72rem") if wide else ("-.01em", "64rem")
    return (
        f"header h1 {{ letter-spacing: {spacing}; }}\n"
        "nav a { text-decoration: none; }\n"
        "figure { margin: 1rem 0; }\n"
        "table caption { text-align: left; }\n"
        f"main {{ max-width: {width}; }}\n"
    ).encode()


def edited_skin() -> dict[str, bytes]:
    """What somebody changed in the skin by hand, there alone: two files of it, and a picture of their own."""
    style = _harbour_style(wide=False).replace(b"figure { margin: 1rem 0; }", b"figure { margin: 0; }")
    return {
        "type/harbour.css": style,
        "type/size-03.css": b".s3 { font-size: 1rem; }\n",
        "media/pier-flag.svg": svg_tile(77),
    }


def packed(files: Mapping[str, bytes], top: str) -> bytes:
    """An archive of files in one folder, as a package is delivered."""
    archive = io.BytesIO()
    with zipfile.ZipFile(archive, "w", zipfile.ZIP_DEFLATED) as zipped:
        for name, data in files.items():
            zipped.writestr(zipfile.ZipInfo(f"{top}/{name}", (2026, 10, 1, 9, 0, 0)), data)
    return archive.getvalue()


def level_files() -> dict[str, bytes]:
    """What both sides hold alike."""
    words = "<p>We sail in nearly all weather. Cars by booking, bicycles and dogs always.</p>"
    files = {
        "timetable.html": page("Timetable", _sailings_table(34)),
        "contact.html": page("Find us", f"{words}<p>The office is the blue door by the winch.</p>"),
        "freight.html": page("Freight and vehicles", words * 6),
        "news/index.html": page("From the pier", '<ul><li><a href="new-winch.html">A new winch</a></li></ul>'),
        "news/new-winch.html": page("A new winch for the Kittiwake", words * 3),
        "robots.txt": b"User-agent: *\nDisallow: /cgi-bin/\nDisallow: /data/\n",
        ".htaccess": b"Options -Indexes\nErrorDocument 404 /contact.html\n",
        "cgi-bin/next-boat.cgi": clock_script(),
        "data/piers.json": json.dumps([{"pier": place} for place in _PLACES], indent=1).encode() + b"\n",
        "img/pier.svg": svg_scene("The pier in the morning", 3),
    }
    for number, place in enumerate(_PLACES):
        files[f"img/{place.lower().replace(' ', '-')}.svg"] = svg_scene(place, number * 7)
    for number in range(24):
        files[f"img/crossing-{number:02d}.png"] = png(48, 30, number)
    files |= {f"skins/harbour/{name}": content for name, content in skin("1.4.2").items()}
    return files


def fares(price: int, note: str) -> bytes:
    rows = "".join(f"<tr><td>{place}</td><td>{price + 2 * number},50</td></tr>" for number, place in enumerate(_PLACES))
    return page("Fares", f"<table><caption>Single, in crowns</caption>{rows}</table><p>{note}</p>")


def start_page(*, winter: bool) -> bytes:
    season = "winter" if winter else "summer"
    news = (
        '<p class="lead">Winter sailings begin on Sunday. <a href="/winter-sailings.html">See the winter table</a>.</p>'
        if winter
        else '<p class="lead">Summer sailings, eight a day.</p>'
    )
    return page("Skerry Ferries", news + _sailings_table(22 if winter else 20), season=season)


def winter_page() -> bytes:
    return page("Winter sailings", _sailings_table(14), season="winter")


def observatory_pages() -> dict[str, bytes]:
    """The pages of the observatory."""
    frame = "<!doctype html>\n<html lang=en><meta charset=utf-8><title>{0}</title><link rel=stylesheet href=/site.css>\n<main><h1>{0}</h1>{1}</main>\n"
    plates = "".join(f"<li><a href=/plates/plate-19{60 + n}.tif>Plate of 19{60 + n}</a>" for n in range(1, 6))
    return {
        "index.html": frame.format(
            "Northlight Observatory", "<p>Open on clear nights; five plates are scanned.</p>"
        ).encode(),
        "plates/index.html": frame.format("Plate scans", f"<ul>{plates}</ul>").encode(),
        "site.css": b"body{background:#0d1417;color:#e6ebe9;font:16px/1.5 sans-serif}\n",
    }


def seed_pages() -> dict[str, bytes]:
    """The pages of the seed library; their names hold letters beyond ASCII."""
    frame = (
        "<!doctype html>\n<html lang=en><meta charset=utf-8><title>{0}</title>\n<main><h1>{0}</h1><p>{1}</p></main>\n"
    )
    return {
        "index.html": frame.format("Moss Lane Seed Library", "Borrow in spring, bring back in autumn.").encode(),
        "öffnungszeiten.html": frame.format("When we are open", "Saturdays, ten to noon.").encode(),
        "saatgut/rüben.html": frame.format("Beet", "Twelve kinds, three of them purple.").encode(),
        "saatgut/erbsen.html": frame.format("Peas", "Sown by the light of February.").encode(),
        "style.css": b"body{font:16px/1.5 serif;max-width:40rem;margin:auto}\n",
    }


def letters() -> dict[str, bytes]:
    """Letters from made-up hosts, for trying "Add a site"; the same lie in docs/letters."""
    folder = resources.files("nailer.standins.demo") / "letters"
    return {one.name: one.read_bytes() for one in folder.iterdir() if one.name.endswith(".txt")}
