"""Made-up registers with the truth: who of the one is who of the other, by a seed.

People of several languages, twins, people who moved or married, slips of typing, of hearing and
of scanning, swapped fields, missing cells, dates in another order.
"""

from __future__ import annotations

import random
from dataclasses import dataclass, replace
from datetime import date, timedelta

from plait.core.table.table import Table, table_from_columns

FIRST = [
    "Ada",
    "Bo",
    "Chidi",
    "Dagny",
    "Emre",
    "Fatou",
    "Goran",
    "Hanna",
    "Ines",
    "Jens",
    "Kaya",
    "Liam",
    "Marta",
    "Maria",
    "Nuno",
    "Olga",
    "Pilar",
    "Quirin",
    "Rosa",
    "Sven",
    "Tomasz",
    "Uma",
    "Vera",
    "Wim",
    "Xenia",
    "Yusuf",
    "Zora",
    "Anneke",
    "Bastien",
    "Carmen",
    "Dimitri",
    "Eleni",
    "Femke",
    "Giulia",
    "Hugo",
    "Ilse",
    "João",
    "Katarzyna",
    "Lotte",
    "Matteo",
    "Noor",
    "Oskar",
    "Paula",
    "Renée",
    "Søren",
    "Théo",
    "Ursula",
    "Viktor",
    "Wanda",
    "Ömer",
    "Agnieszka",
    "Björn",
    "Céline",
    "Dariusz",
    "Élodie",
    "Françoise",
    "Grzegorz",
    "Håkon",
    "Isabel",
]
LAST = [
    "Abel",
    "Bakker",
    "Carlsen",
    "Dubois",
    "Esposito",
    "Ferreira",
    "Garcia",
    "Hansen",
    "Ivanov",
    "Jansen",
    "Kowalski",
    "Lindqvist",
    "Meyer",
    "Nowak",
    "Okonkwo",
    "Petrov",
    "Quintero",
    "Rossi",
    "Schmidt",
    "Tanaka",
    "Ulrich",
    "Visser",
    "Weber",
    "Yılmaz",
    "Zieliński",
    "Andersson",
    "Bianchi",
    "Costa",
    "Diallo",
    "Eriksen",
    "Fontaine",
    "Gonzalez",
    "Hoffmann",
    "Iversen",
    "Jovanović",
    "Keller",
    "Lefèvre",
    "Moreau",
    "Nielsen",
    "Öztürk",
    "Pereira",
    "Richter",
    "Sørensen",
    "Traoré",
    "Vogel",
    "Wójcik",
    "Zimmermann",
]
_BEGIN = [
    "Ber",
    "Cal",
    "Dor",
    "Fen",
    "Gal",
    "Hol",
    "Kor",
    "Lan",
    "Mor",
    "Nar",
    "Pel",
    "Ros",
    "Sal",
    "Tor",
    "Ul",
    "Ven",
    "Wal",
    "Zel",
    "Bran",
    "Hart",
]
_MIDDLE = ["a", "e", "i", "o", "u", "an", "en", "il", "or", "as", "ek"]
_END = [
    "berg",
    "dal",
    "mann",
    "sen",
    "ska",
    "ström",
    "ini",
    "ova",
    "wick",
    "ton",
    "ner",
    "ley",
    "quist",
    "hof",
    "bach",
]
TOWNS = [
    f"{begin}{end}"
    for begin in [
        "Alder",
        "Birch",
        "Clay",
        "Elm",
        "Fern",
        "Glen",
        "Hazel",
        "Moor",
        "North",
        "Oak",
        "Pine",
        "Rose",
        "South",
        "Thorn",
        "West",
    ]
    for end in ["bridge", "bury", "field", "ford", "ham", "mere", "stead", "ton", "wood", "worth"]
]
_HEARD = (("ph", "f"), ("ck", "k"), ("dt", "t"), ("y", "i"), ("c", "k"), ("v", "w"), ("th", "t"))
_SCANNED = (("rn", "m"), ("l", "1"), ("o", "0"), ("m", "rn"), ("e", "c"), ("h", "b"))


@dataclass(frozen=True)
class Person:
    """Somebody, as one register has them."""

    first: str
    last: str
    born: date
    town: str
    phone: str


def _surnames(chance: random.Random, number: int) -> list[str]:
    """Common ones and many rare ones."""
    rare = {
        chance.choice(_BEGIN) + chance.choice(_MIDDLE) + chance.choice(_END) for _ in range(number)
    }
    return LAST + sorted(rare)


def _person(chance: random.Random, surnames: list[str]) -> Person:
    # Half of all have one of the common names.
    names = LAST if chance.random() < 0.5 else surnames
    towns = TOWNS[: len(TOWNS) // 5] if chance.random() < 0.5 else TOWNS
    return Person(
        chance.choice(FIRST),
        chance.choice(names),
        date(1940, 1, 1) + timedelta(days=chance.randrange(25_000)),
        chance.choice(towns),
        f"0{chance.randrange(10**8):08}",
    )


def _slip(chance: random.Random, text: str) -> str:
    """A slip of typing, hearing or scanning."""
    kind = chance.random()
    for pairs in (_HEARD, _SCANNED):
        if kind < 0.25:
            there = [(old, new) for old, new in pairs if old in text]
            if there:
                return text.replace(*chance.choice(there), 1)
        kind -= 0.25
    at = chance.randrange(len(text))
    letter = chance.choice("aeinrst")
    return chance.choice(
        [
            text[:at] + text[at + 1 :],
            text[:at] + letter + text[at:],
            text[:at] + letter + text[at + 1 :],
            text[:at] + text[at : at + 2][::-1] + text[at + 2 :],
        ]
    )


def _again(chance: random.Random, one: Person, towns: list[str], surnames: list[str]) -> Person:
    """The same person, as the other register has them."""
    if chance.random() < 0.06:
        one = replace(one, town=chance.choice(towns))
    if chance.random() < 0.02:
        one = replace(one, last=f"{one.last}-{chance.choice(surnames)}")
    if chance.random() < 0.12:
        one = replace(one, last=_slip(chance, one.last))
    if chance.random() < 0.08:
        one = replace(one, first=_slip(chance, one.first))
    if chance.random() < 0.05:
        one = replace(one, phone=_slip_of_digit(chance, one.phone))
    if chance.random() < 0.1:
        one = replace(one, phone=f"0{chance.randrange(10**8):08}")
    if chance.random() < 0.05:
        turned = _turned(one.born)
        other = date(chance.randrange(1940, 2009), one.born.month, min(one.born.day, 28))
        one = replace(one, born=turned or other)
    return one


def _slip_of_digit(chance: random.Random, phone: str) -> str:
    at = chance.randrange(1, len(phone))
    return phone[:at] + str(chance.randrange(10)) + phone[at + 1 :]


def _turned(born: date) -> date | None:
    """Day and month exchanged, where there is such a day."""
    return born.replace(month=born.day, day=born.month) if born.day <= 12 else None


def _columns(
    chance: random.Random, people: list[Person], numbers: list[str], name: str, turned: bool
) -> Table:
    def cell(text: str, share: float) -> str | None:
        return None if chance.random() < share else text

    names = []
    for one in people:
        swapped = chance.random() < 0.02
        names.append(f"{one.last} {one.first}" if swapped else f"{one.first} {one.last}")
    written = [f"{last}, {first}" if turned else text for text, last, first in
               zip(names, (p.last for p in people), (p.first for p in people), strict=True)]  # fmt: skip
    return table_from_columns(
        name,
        {
            "Number": numbers,
            "Name": names if not turned else written,
            "Born": [cell(p.born.isoformat(), 0.05) for p in people],
            "Town": [cell(p.town, 0.03) for p in people],
            "Phone": [cell(p.phone, 0.1) for p in people],
        },
    )


def registers(seed: int, size: int, share: float = 0.5) -> tuple[Table, Table, dict[str, str]]:
    """Two registers of so many people each, of whom a share are in both, and who they are there.

    The key ``Number`` of either is of its own: it tells nothing of the other's.
    """
    chance = random.Random(seed)
    surnames = _surnames(chance, size // 3)
    people: list[Person] = []
    while len(people) < 2 * size:
        one = _person(chance, surnames)
        people.append(one)
        if chance.random() < 0.02:  # twins
            people.append(
                replace(one, first=chance.choice(FIRST), phone=f"0{chance.randrange(10**8):08}")
            )
    chance.shuffle(people)
    both = int(size * share)
    left = people[:size]
    right = [_again(chance, one, TOWNS, surnames) for one in left[:both]] + people[
        size : 2 * size - both
    ]
    order = list(range(size))
    chance.shuffle(order)
    left_numbers = [f"L{n:07}" for n in range(size)]
    right_numbers = [f"R{n:07}" for n in range(size)]
    placed = [right[at] for at in order]
    truth = {left_numbers[old]: right_numbers[new] for new, old in enumerate(order) if old < both}
    return (
        _columns(chance, left, left_numbers, "members", False),
        _columns(chance, placed, right_numbers, "payers", False),
        truth,
    )
