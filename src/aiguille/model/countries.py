"""Countries by their ISO 3166-1 codes and names."""

from __future__ import annotations

import difflib
import re
from functools import cache


def country_name(code: str) -> str:
    """The short English name, the code itself where ISO 3166-1 has none (registries use EU and AP, say)."""
    return _by_code().get(code.upper(), code)


def country_code(text: str) -> str | None:
    """The two-letter code of a country given by code or name, whatever its case; None if there is none."""
    word = text.strip()
    if len(word) == 2 and word.upper() in _by_code():
        return word.upper()
    return _by_name().get(word.lower())


def nearest_country(text: str) -> str:
    """The code and name most like a text that is no country, empty if nothing is."""
    near = difflib.get_close_matches(text.lower(), [*_by_name(), *map(str.lower, _by_code())], n=1)
    if not near:
        return ""
    code = country_code(near[0])
    return f"{code} ({country_name(code)})" if code else ""


_MARK = re.compile(
    r"(?i)(?:^|[^a-z0-9])(?:country|land|geo|geoip|cc)[^a-z0-9]+([a-z]{2}|[a-z][a-z ]{3,})(?:[^a-z0-9]|$)"
)


def claimed_country(name: str) -> str | None:
    """The country an object's name says it stands for: ``land-CH``, ``geo_fr``, ``Country France``; else None."""
    found = _MARK.search(name)
    return country_code(found[1]) if found else country_code(name) if len(name) > 3 else None


@cache
def _by_code() -> dict[str, str]:
    import pycountry

    return {one.alpha_2: getattr(one, "common_name", one.name) for one in pycountry.countries}


@cache
def _by_name() -> dict[str, str]:
    import pycountry

    out: dict[str, str] = {}
    for one in pycountry.countries:
        for name in (one.name, getattr(one, "common_name", ""), getattr(one, "official_name", ""), one.alpha_3):
            if name:
                out.setdefault(name.lower(), one.alpha_2)
    return out
