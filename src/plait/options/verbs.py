"""All verbs that a plan can have as steps, in the order in which they are told."""

from __future__ import annotations

from plait.options.beside import BESIDE
from plait.options.compare import COMPARE
from plait.options.group import GROUP
from plait.options.join import JOIN
from plait.options.keys import KEYS
from plait.options.lengthen import LENGTHEN
from plait.options.mend import MEND
from plait.options.option import Verb
from plait.options.settle import SETTLE
from plait.options.stack import STACK
from plait.options.widen import WIDEN

VERBS: dict[str, Verb] = {
    one.name: one
    for one in (STACK, MEND, JOIN, SETTLE, BESIDE, GROUP, WIDEN, LENGTHEN, KEYS, COMPARE)
}
