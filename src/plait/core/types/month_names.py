"""Names of months in the languages that extracts come in, and their usual short forms."""

from __future__ import annotations

import unicodedata

_LANGUAGES = {
    "English": "january february march april may june july august september october november "
    "december",
    "French": "janvier février mars avril mai juin juillet août septembre octobre novembre "
    "décembre",
    "German": "januar februar märz april mai juni juli august september oktober november dezember",
    "Spanish": "enero febrero marzo abril mayo junio julio agosto septiembre octubre noviembre "
    "diciembre",
    "Italian": "gennaio febbraio marzo aprile maggio giugno luglio agosto settembre ottobre "
    "novembre dicembre",
    "Portuguese": "janeiro fevereiro março abril maio junho julho agosto setembro outubro novembro "
    "dezembro",
    "Dutch": "januari februari maart april mei juni juli augustus september oktober november "
    "december",
}
_SHORT = {
    "French": "janv févr mars avr mai juin juil août sept oct nov déc",
    "English": "jan feb mar apr may jun jul aug sept oct nov dec",
    "German": "jän feb mär apr mai jun jul aug sep okt nov dez",
    "Austrian": "jänner feber mrz apr mai juni juli aug sept okt nov dez",
    "Spanish": "ene feb mar abr may jun jul ago set oct nov dic",
    "Italian": "gen feb mar apr mag giu lug ago set ott nov dic",
    "Portuguese": "jan fev mar abr mai jun jul ago set out nov dez",
    "Dutch": "jan feb mrt apr mei jun jul aug sep okt nov dec",
}


def _spellings(name: str) -> tuple[str, str, str]:
    """A name in whole letters, with its accents as marks of their own, and without them."""
    apart = unicodedata.normalize("NFD", name)
    return name, apart, "".join(letter for letter in apart if not unicodedata.combining(letter))


def _numbers() -> dict[str, int]:
    numbers: dict[str, int] = {}
    for names in (*_LANGUAGES.values(), *_SHORT.values()):
        for number, name in enumerate(names.split(), 1):
            for spelling in _spellings(name):
                # No two languages give one name to two months.
                assert numbers.setdefault(spelling, number) == number, spelling
    return numbers


#: Every spelling that is looked up as it stands: no library is asked to put letters together.
MONTH_NUMBERS = _numbers()
MONTH_BEGINNINGS = tuple(sorted({name[:3] for name in MONTH_NUMBERS}))
#: A letter, or an accent that is a mark of its own, as a pattern.
NAME_LETTER = "[A-Za-zÀ-ÿ\u0300-\u036f]"
