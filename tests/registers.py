"""Made-up registers with the truth: who of the one is who of the other, by a seed.

People of several languages, twins, people who moved or married, slips of typing, of hearing and
of scanning, swapped fields, missing cells, dates in another order.
"""

from __future__ import annotations

import random
from dataclasses import dataclass, replace
from datetime import date, timedelta


def _words(text: str) -> list[str]:
    return text.split()


FIRST = _words(
    "Ada Bo Chidi Dagny Emre Fatou Goran Hanna Ines Jens Kaya Liam Marta Maria Nuno Olga "
    "Pilar Quirin Rosa Sven Tomasz Uma Vera Wim Xenia Yusuf Zora Anneke Bastien Carmen "
    "Dimitri Eleni Femke Giulia Hugo Ilse João Katarzyna Lotte Matteo Noor Oskar Paula Renée "
    "Søren Théo Ursula Viktor Wanda Ömer Agnieszka Björn Céline Dariusz Élodie Françoise "
    "Grzegorz Håkon Isabel"
)
LAST = _words(
    "Abel Bakker Carlsen Dubois Esposito Ferreira Garcia Hansen Ivanov Jansen Kowalski "
    "Lindqvist Meyer Nowak Okonkwo Petrov Quintero Rossi Schmidt Tanaka Ulrich Visser Weber "
    "Yılmaz Zieliński Andersson Bianchi Costa Diallo Eriksen Fontaine Gonzalez Hoffmann "
    "Iversen Jovanović Keller Lefèvre Moreau Nielsen Öztürk Pereira Richter Sørensen Traoré "
    "Vogel Wójcik Zimmermann"
)
_BEGIN = _words("Ber Cal Dor Fen Gal Hol Kor Lan Mor Nar Pel Ros Sal Tor Ul Ven Wal Zel Bran Hart")
_MIDDLE = _words("a e i o u an en il or as ek")
_END = _words("berg dal mann sen ska ström ini ova wick ton ner ley quist hof bach")
_TREES = _words("Alder Birch Clay Elm Fern Glen Hazel Moor North Oak Pine Rose South Thorn West")
_PLACES = _words("bridge bury field ford ham mere stead ton wood worth")
TOWNS = [begin + end for begin in _TREES for end in _PLACES]
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


def _again(chance: random.Random, one: Person, surnames: list[str]) -> Person:
    """The same person, as the other register has them."""
    if chance.random() < 0.06:
        one = replace(one, town=chance.choice(TOWNS))
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
    chance: random.Random, people: list[Person], numbers: list[str]
) -> dict[str, list[str | None]]:
    def cell(text: str, missing: float) -> str | None:
        return None if chance.random() < missing else text

    return {
        "n": list(numbers),
        "name": [
            f"{one.last} {one.first}" if chance.random() < 0.02 else f"{one.first} {one.last}"
            for one in people
        ],
        "born": [cell(one.born.isoformat(), 0.05) for one in people],
        "town": [cell(one.town, 0.03) for one in people],
        "phone": [cell(one.phone, 0.1) for one in people],
    }


Columns = dict[str, list[str | None]]


def registers(seed: int, size: int, share: float = 0.5) -> tuple[Columns, Columns, dict[str, str]]:
    """Two registers of so many people each, of whom a share are in both, and who they are there.

    The key ``n`` of either is of its own: it tells nothing of the other's.
    """
    chance = random.Random(seed)
    surnames = _surnames(chance, size // 3)
    people: list[Person] = []
    while len(people) < 2 * size:
        one = _person(chance, surnames)
        people.append(one)
        if chance.random() < 0.02:  # twins
            phone = f"0{chance.randrange(10**8):08}"
            people.append(replace(one, first=chance.choice(FIRST), phone=phone))
    chance.shuffle(people)
    both = int(size * share)
    left, rest = people[:size], people[size : 2 * size - both]
    right = [_again(chance, one, surnames) for one in left[:both]] + rest
    order = list(range(size))
    chance.shuffle(order)
    left_numbers = [f"L{number:07}" for number in range(size)]
    right_numbers = [f"R{number:07}" for number in range(size)]
    truth = {left_numbers[old]: right_numbers[new] for new, old in enumerate(order) if old < both}
    return (
        _columns(chance, left, left_numbers),
        _columns(chance, [right[at] for at in order], right_numbers),
        truth,
    )


def registers_as_csv(seed: int, size: int) -> dict[str, bytes]:
    """The files ``people.csv`` and ``payers.csv``; ``settled.csv`` rejects a pair that is true."""
    left, right, truth = registers(seed, size)
    mine, theirs = min(truth.items())
    rows = {"people.csv": [[*left], *zip(*left.values(), strict=True)]}
    rows["payers.csv"] = [[*right], *zip(*right.values(), strict=True)]
    rows["settled.csv"] = [
        ["left n", "right n", "use", "decided"],
        [mine, theirs, "no", "rejected"],
    ]
    return {
        name: "".join(",".join(cell or "" for cell in row) + "\n" for row in lines).encode()
        for name, lines in rows.items()
    }
