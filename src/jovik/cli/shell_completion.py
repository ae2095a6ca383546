"""Completion in bash and fish.

In bash a word has colons, spaces or an open quote in it.

Bash parts words at colons and equals signs before it asks, and takes an answer for the last part
only; and what it inserts it does not quote. So the line is parted here as the shell will part it,
and each answer is made to fit what bash is about to replace.
"""

from __future__ import annotations

import os
import re
from dataclasses import dataclass

from click.shell_completion import (
    BashComplete,
    CompletionItem,
    FishComplete,
    add_completion_class,
)

SOURCE = """\
%(complete_func)s() {
    local IFS=$'\\n' response completion kind
    response=$(COMP_LINE="${COMP_LINE:0:$COMP_POINT}" %(complete_var)s=bash_complete "$1")
    COMPREPLY=()
    for completion in $response; do
        kind=${completion%%%%,*}
        case $kind in
        dir) compopt -o dirnames ;;
        file) compopt -o default ;;
        plain) COMPREPLY+=("${completion#*,}") ;;
        esac
    done
}
complete -o nosort -F %(complete_func)s %(prog_name)s
"""
SPECIAL = re.compile(r"([^\w@%+=:,./-])")
BREAKS = ":="
"""Characters at which bash splits words (COMP_WORDBREAKS)."""


@dataclass(frozen=True)
class HalfLine:
    """A command line up to the cursor: its whole words, the last one, and the quote it is in."""

    words: list[str]
    last: str
    quote: str


def split_half_line(line: str) -> HalfLine:
    """Split a line as the shell does, even with an open quote at its end."""
    words: list[str] = []
    word, quote, begun, at = "", "", False, 0
    while at < len(line):
        sign = line[at]
        at += 1
        if quote == "'" or (quote and sign not in ("\\", quote)):
            if sign == quote:
                quote = ""
            else:
                word += sign
        elif sign == "\\":
            word, begun, at = word + line[at : at + 1], True, at + 1
        elif quote:
            quote = ""
        elif sign in "'\"":
            quote, begun = sign, True
        elif sign.isspace():
            if begun:
                words.append(word)
            word, begun = "", False
        else:
            word, begun = word + sign, True
    return HalfLine(words, word, quote)


class BashWords(BashComplete):
    """See the module."""

    name = "bash"
    source_template = SOURCE

    def get_completion_args(self) -> tuple[list[str], str]:
        """Return the words before the one that is begun, and that."""
        self.line = split_half_line(os.environ.get("COMP_LINE", ""))
        return self.line.words[1:], self.line.last

    def format_completion(self, item: CompletionItem) -> str:
        """Return a line of the answer: its kind, and the text that bash inserts."""
        return f"{item.type},{fitting(str(item.value), self.line)}"


def fitting(value: str, line: HalfLine) -> str:
    """Return a completion as bash has to be given it behind a half-written line."""
    if line.quote:
        # The shell closes the quote itself; what would end or obey it is escaped.
        return value.replace('"', '\\"').replace("$", "\\$") if line.quote == '"' else value
    broken = max((line.last.rfind(b) for b in BREAKS), default=-1) + 1
    rest = value[broken:] if value.startswith(line.last[:broken]) else value
    return SPECIAL.sub(r"\\\1", rest)


class FishWords(FishComplete):
    """Click's, which would end a name at a comma in it."""

    source_template = FishComplete.source_template.replace(
        'string split ","', 'string split --max 1 ","'
    )


def install() -> None:
    """Have Click complete by them."""
    add_completion_class(BashWords, "bash")
    add_completion_class(FishWords, "fish")
