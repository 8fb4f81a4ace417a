"""Forty shapes of text that readers have stumbled over: each is a unit that is repeated, between a beginning and an end."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Shape:
    """`begins` + `unit` over and over + `ends`."""

    name: str
    unit: str
    begins: str = ""
    ends: str = ""

    def of(self, letters: int) -> str:
        """The text with so many letters, more or less."""
        return self.begins + self.unit * max(1, letters // len(self.unit)) + self.ends


SHAPES = (
    Shape("less-than", "<"),
    Shape("begun tags", "<a "),
    Shape("begun comments", "<!--"),
    Shape("begun sections", "<!["),
    Shape("begun declarations", "<!"),
    Shape("begun programs", "<?"),
    Shape("begun end tags", "</"),
    Shape("end tags", "</div>"),
    Shape("nested elements", "<div>"),
    Shape("nested inline elements", "<b><i>"),
    Shape("nested tables", "<table><tr><td>"),
    Shape("nested lists", "<ul><li>"),
    Shape("links", '<a href="/a/b.html">x</a>'),
    Shape("pictures", "<img src=a.png srcset='a.png 1x, b.png 2x'>"),
    Shape("attributes", ' a="b"', "<p", ">"),
    Shape("one attribute without end", "x", '<a href="'),
    Shape("quotes", "\"'"),
    Shape("styles without end", "<style>a{"),
    Shape("scripts without end", "<script>"),
    Shape("style attributes", '<p style="background:url(a.png)">'),
    Shape("begun addresses", "url("),
    Shape("an address of blanks", " ", "a{b:url(", "x"),
    Shape("addresses of blanks", "url(  "),
    Shape("begun imports", "@import "),
    Shape("imports of blanks", " ", "@import", "x"),
    Shape("open braces", "{"),
    Shape("nested rules", "a{b{"),
    Shape("open brackets", "[("),
    Shape("closing brackets", "})]"),
    Shape("begun style comments", "/*"),
    Shape("slashes and stars", "*/"),
    Shape("backslashes", "\\"),
    Shape("commas", ",", '<img srcset="', '">'),
    Shape("a refresh of blanks", " ", '<meta http-equiv=refresh content="0;', 'x\ny">'),
    Shape("references to characters", "&#9"),
    Shape("digits", "9"),
    Shape("nested json", '{"a":[', "{"),
    Shape("equal lines", "}\n"),
    Shape("lines of two kinds", "a\nb\n"),
    Shape("blank lines", " \n"),
    Shape("hyphens", "-"),
    Shape("words with colons", "user: password: host: "),
    Shape("addresses in a row", "ftp://a@b.example/c "),
    Shape("dots and slashes", "../"),
    Shape("dates of a log", "[Sun Nov 29 10:00:00 2026] "),
    Shape("names after passwords", "password=password="),
    Shape("lone surrogates", "\udcff"),
    Shape("null bytes", "\0"),
    Shape("header words", " * Version: "),
    Shape("xml entities", "<!ENTITY a 'b'>", "<?xml version='1.0'?><!DOCTYPE a [", "]><a/>"),
)
