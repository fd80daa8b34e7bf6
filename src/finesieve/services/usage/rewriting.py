"""Documents with expressions rewritten at their very place: rules as a whole, placeholders of texts, translations."""

from collections.abc import Callable, Iterable, Mapping
from functools import partial
from typing import Any, Final

from finesieve.core.language.checker import Checked
from finesieve.core.language.placeholders import expressions_in

__all__ = ["Check", "Placed", "Rewrite", "in_document", "placed_rewritten", "text_rewritten"]

Check = Callable[[str], Checked]
Rewrite = Callable[[str, Check], str]
"""An expression as it is to be written, by how it is checked where it stands."""


Placed = tuple[str, str, Check]
"""Something written in a document: the id of the section, item or line that it stands at ("" for the whole), the text,
and how an expression is checked there."""


_EXPRESSIONS: Final = frozenset(
    ("show_when", "required_when", "options_when", "count", "expression", "amount", "rule", "costs", "moving")
)
"""The parts of documents that are expressions as a whole; in all others they stand in braces."""
_WORKED_OUT: Final = ("becomes", "gains", "loses")


def in_document(node: Any, old: str, new: str) -> Any:
    """A document of one world with an expression rewritten wherever it stands; what merely reads the same stays."""

    def change(text: str, *, rule: bool) -> str:
        return new if rule and text == old else text.replace("{" + old + "}", "{" + new + "}")

    return _changed(node, change, frozenset())


def placed_rewritten(
    document: dict[str, Any], rules: Iterable[Placed], texts: Iterable[Placed], rewrite: Rewrite
) -> dict[str, Any]:
    """A document with its rules and texts rewritten, each at its place: the same words may mean something else at
    another. Translations go on standing under the texts that they are of."""
    rules, texts, found = list(rules), list(texts), document
    places = frozenset(place for place, _, _ in (*rules, *texts))
    renamed: dict[str, tuple[str, Check]] = {}
    for is_rule, (place, text, check_here) in (*((True, one) for one in rules), *((False, one) for one in texts)):
        by_check = partial(_by, rewrite, check_here)
        new = by_check(text) if is_rule else text_rewritten(text, by_check)
        if new == text:
            continue
        found = _at(found, place, partial(_exactly, text, new, is_rule), places)
        if not is_rule:
            renamed[text] = new, check_here
    if not renamed or not document.get("phrases"):
        return found
    still = {text for _, text, check_here in texts if text_rewritten(text, partial(_by, rewrite, check_here)) == text}
    phrases = {}
    for language, said in document["phrases"].items():
        more = {
            new: text_rewritten(said[text], partial(_by, rewrite, check_here))
            for text, (new, check_here) in renamed.items()
            if text in said
        }
        phrases[language] = {text: one for text, one in said.items() if text not in renamed or text in still} | more
    return {**found, "phrases": phrases}


def _by(rewrite: Rewrite, check_here: Check, text: str) -> str:
    return rewrite(text, check_here)


def _exactly(old: str, new: str, of_rules: bool, text: str, *, rule: bool) -> str:
    return new if text == old and rule is of_rules else text


def _at(node: Any, place: str, change: Callable[..., str], places: frozenset[str]) -> Any:
    """A document changed at one of its places alone; "" is the document itself, but for what is at places."""
    if not place:
        return {**_own(node, change, places), **({"phrases": node["phrases"]} if "phrases" in node else {})}
    if isinstance(node, dict):
        if node.get("id") == place:
            return _own(node, change, places)
        return {key: _at(one, place, change, places) for key, one in node.items()}
    return [_at(one, place, change, places) for one in node] if isinstance(node, list) else node


def _own(
    node: Mapping[str, Any], change: Callable[..., str], places: frozenset[str], *, rule: bool = False
) -> dict[str, Any]:
    sums = node.get("verb") in _WORKED_OUT
    return {
        key: _changed(one, change, places, rule=rule or key in _EXPRESSIONS or (sums and key == "value"))
        for key, one in node.items()
    }


def _changed(node: Any, change: Callable[..., str], places: frozenset[str], *, rule: bool = False) -> Any:
    """A part of a document, changed text by text; what has a place of its own stays."""
    if isinstance(node, dict):
        return node if node.get("id") in places else _own(node, change, places, rule=rule)
    if isinstance(node, list):
        return [_changed(one, change, places) for one in node]
    return change(node, rule=rule) if isinstance(node, str) else node


def text_rewritten(text: str, rewrite: Callable[[str], str]) -> str:
    """A text with the expressions in its placeholders rewritten."""
    for expression in expressions_in(text):
        text = text.replace("{" + expression + "}", "{" + rewrite(expression) + "}")
    return text
