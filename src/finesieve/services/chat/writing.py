"""Writing a script: lines put in, changed, moved, indented, taken out; each of it can be undone."""

from collections.abc import Callable, Mapping, Sequence
from typing import Any, Final

from pydantic import ValidationError

from finesieve.core.chat.flow import Flow
from finesieve.core.chat.script import END, MOST_LINES, Script, parts_of
from finesieve.core.errors import InvalidInput, NotFound, Overtaken
from finesieve.services.chat.scripts import script_of
from finesieve.services.kernel.changes import record_change, snapshot
from finesieve.services.kernel.inputs import explain_errors
from finesieve.services.kernel.scope import Scope

__all__ = [
    "KINDS", "add_line", "change_line", "change_script_settings", "indent_line", "move_line", "remove_line",
    "set_passing",
    "set_script_phrases",
]  # fmt: skip

KINDS: Final[dict[str, str]] = {
    "say": "Say something", "ask": "Ask for a value", "choose": "Offer replies", "branch": "Branch by a rule",
    "record": "Ask about a record", "confirm": "Confirm who they are", "do": "Do something",
    "sum_up": "Sum up the answers", "wait": "Wait", "hand_over": "Hand over to a clerk",
    "go_to": "Go on elsewhere", "end": "End",
}  # fmt: skip
"""The kinds of lines in words, in the order offered."""
_Steps = list[dict[str, Any]]


def _change(
    scope: Scope, script_id: int, revision: int, label: str, change: Callable[[Script, _Steps], dict[str, Any] | None]
) -> int:
    """Change the draft; gives the id for undoing.

    `change` alters the lines in their order, and may give other parts that are new. Raises NotFound, InvalidInput where
    the document would not do, and Overtaken where somebody else has changed the script since that revision.
    """
    with scope.transaction("editor") as unit:
        row = script_of(unit, script_id, lock=True)
        if row.revision != revision:
            raise Overtaken("Somebody else", ())
        before = snapshot(unit, "script", script_id)
        script = Script.model_validate(row.draft)
        steps = [step.model_dump(mode="json") for step in Flow(script).lines]
        parts = change(script, steps) or {}
        try:
            document = Script.model_validate(script.model_dump(mode="json") | {"steps": steps} | parts)
        except ValidationError as error:
            raise InvalidInput(explain_errors(error)) from None
        row.draft = document.model_dump(mode="json")
        unit.session.add(row)
        done = record_change(unit, "script", script_id, label, before)
        row.revision += 1 if done else 0
        return done


def _place(steps: _Steps, step_id: str) -> int:
    found = next((place for place, step in enumerate(steps) if step["id"] == step_id), None)
    if found is None:
        raise NotFound("There is no such line.")
    return found


def _block_end(script: Script, steps: _Steps, place: int) -> int:
    """Where a line ends with all that stands under it."""
    flow = Flow(script)
    depth = flow.depth(flow.by_id[steps[place]["id"]])
    end = place + 1
    while end < len(steps) and flow.depth(flow.by_id[steps[end]["id"]]) > depth:
        end += 1
    return end


def add_line(
    scope: Scope, script_id: int, revision: int, kind: str, after: str = "", under: str = "", text: str = ""
) -> tuple[int, str]:
    """Put a line in after another, or as the first under a reply or a case, at the end for neither; gives the id for
    undoing, and that of the line. Raises NotFound."""
    if kind not in KINDS:
        raise NotFound("There is no such kind of line.")
    new = ""

    def change(script: Script, steps: _Steps) -> None:
        nonlocal new
        if len(steps) >= MOST_LINES:
            raise InvalidInput({"": f"A script has at most {MOST_LINES} lines."})
        new = script.next_id()
        line = {"id": new, "under": under, **_begun(script, kind, text)}
        if under:
            owner = next((one for one in script.steps if any(part.id == under for part in parts_of(one))), None)
            if owner is None:
                raise NotFound("There is no such reply.")
            place = _after_branches_before(script, steps, owner, under)
        elif after:
            place = _place(steps, after)
            line["under"] = steps[place]["under"]
            place = _block_end(script, steps, place)
        else:
            place = len(steps)
        steps.insert(place, line)

    done = _change(scope, script_id, revision, f"Put in a line: {KINDS[kind].lower()}", change)
    return done, new


def _after_branches_before(script: Script, steps: _Steps, owner: Any, under: str) -> int:
    """The place of a first line under a reply: after all that stands under the replies before it."""
    ids = [part.id for part in parts_of(owner)]
    earlier = set(ids[: ids.index(under)])
    place = _place(steps, owner.id) + 1
    while place < len(steps) and steps[place]["under"] in earlier:
        place = _block_end(script, steps, place)
    return place


def change_line(scope: Scope, script_id: int, revision: int, step_id: str, parts: Mapping[str, Any]) -> int:
    """Change parts of a line; with another `kind`, it keeps its text and its place. Raises NotFound, InvalidInput."""

    def change(script: Script, steps: _Steps) -> None:
        place = _place(steps, step_id)
        line = steps[place]
        if parts.get("kind", line["kind"]) != line["kind"]:
            said = parts.get("text") or line.get("text") or next((one["text"] for one in line.get("texts", ())), "")
            new = {"id": line["id"], "under": line["under"], **_begun(script, parts["kind"], said)}
        else:
            new = {**line, **{name: value for name, value in parts.items() if name not in ("id", "under")}}
        gone = {one["id"] for one in _parts(steps[place])} - {one["id"] for one in _parts(new)}
        steps[place] = new
        for step in steps:
            if step["under"] in gone:
                step["under"] = new["under"]

    return _change(scope, script_id, revision, "Changed a line", change)


def _begun(script: Script, kind: str, text: str) -> dict[str, Any]:
    """A line of a kind as it begins, with a text."""
    if kind == "say":
        return {"kind": kind, "texts": [{"text": text}]}
    begun: dict[str, Any] = {"kind": kind}
    if kind in ("ask", "choose", "record", "confirm", "sum_up", "hand_over", "end", "wait"):
        begun["text"] = text
    if kind == "choose":
        number = int(script.next_id("b")[1:])
        begun["replies"] = [{"id": f"b{number}", "label": "Yes"}, {"id": f"b{number + 1}", "label": "No"}]
    if kind == "record":
        begun["inside"] = {"id": script.next_id("c")}
    if kind == "branch":
        begun["cases"] = [{"id": script.next_id("c"), "rule": ""}]
    return begun


def _parts(line: Mapping[str, Any]) -> list[dict[str, Any]]:
    inside = line.get("inside")
    return [*line.get("replies", ()), *line.get("cases", ()), *((inside,) if inside else ())]


def remove_line(scope: Scope, script_id: int, revision: int, step_id: str) -> int:
    """Take a line out; what stands under it moves to where it stood, what led to it leads on. Raises NotFound."""

    def change(script: Script, steps: _Steps) -> None:
        place = _place(steps, step_id)
        flow = Flow(script)
        on = flow.after(step_id)
        gone = steps.pop(place)
        inner = {part["id"] for part in _parts(gone)}
        for step in steps:
            if step["under"] in inner:
                step["under"] = gone["under"]
            for part in (step, *_parts(step)):
                if part.get("to") == step_id:
                    part["to"] = on if on != END else ""
                if part.get("late_to") == step_id:
                    part["late_to"] = ""
            if step.get("then") == step_id:
                step["then"] = "hand"

    return _change(scope, script_id, revision, "Took out a line", change)


def move_line(scope: Scope, script_id: int, revision: int, step_id: str, by: int) -> int:
    """Move a line, with what stands under it, past the one before or after it of the same depth. Raises NotFound."""

    def change(script: Script, steps: _Steps) -> None:
        place = _place(steps, step_id)
        end = _block_end(script, steps, place)
        block = steps[place:end]
        beside = [one for one, step in enumerate(steps) if step["under"] == steps[place]["under"]]
        at = beside.index(place) + (1 if by > 0 else -1)
        if not 0 <= at < len(beside):
            raise InvalidInput({"": "It stands first already." if by < 0 else "It stands last already."})
        target = beside[at]
        if by > 0:
            after = _block_end(script, steps, target)
            steps[place:after] = steps[end:after] + block
        else:
            steps[target:end] = block + steps[target:place]

    return _change(scope, script_id, revision, "Moved a line", change)


def indent_line(scope: Scope, script_id: int, revision: int, step_id: str, under: str) -> int:
    """Let a line stand under a reply or a case of the line before it, or with "" further out. Raises NotFound."""

    def change(script: Script, steps: _Steps) -> None:
        place = _place(steps, step_id)
        flow = Flow(script)
        block = steps[place : _block_end(script, steps, place)]
        if not under:
            owner = next((one for one in flow.lines if any(p.id == steps[place]["under"] for p in parts_of(one))), None)
            if owner is None:
                raise InvalidInput({"": "It stands at the margin already."})
            del steps[place : place + len(block)]
            block[0]["under"] = owner.under
            left = _place(steps, owner.id)
            end = left + 1
            inner = {part.id for part in parts_of(owner)}
            while end < len(steps) and _is_under(steps, steps[end], inner):
                end += 1
            steps[end:end] = block
            return
        owner = next((one for one in flow.lines if any(part.id == under for part in parts_of(one))), None)
        if owner is None or flow.numbers[owner.id] >= flow.numbers[step_id]:
            raise NotFound("There is no such reply before this line.")
        del steps[place : place + len(block)]
        block[0]["under"] = under
        ids = [part.id for part in parts_of(owner)]
        until = set(ids[: ids.index(under) + 1])
        end = _place(steps, owner.id) + 1
        while end < len(steps) and _is_under(steps, steps[end], until):
            end += 1
        steps[end:end] = block

    return _change(scope, script_id, revision, "Indented a line" if under else "Moved a line out", change)


def _is_under(steps: _Steps, step: Mapping[str, Any], parts: set[str]) -> bool:
    """Whether a line stands under one of these, over however many steps."""
    owners = {part["id"]: one for one in steps for part in _parts(one)}
    under = step["under"]
    while under:
        if under in parts:
            return True
        under = owners[under]["under"] if under in owners else ""
    return False


def change_script_settings(scope: Scope, script_id: int, revision: int, parts: Mapping[str, Any]) -> int:
    """Change what a script is besides its lines: title, purpose, speaker, channels, languages. Raises InvalidInput."""
    return _change(scope, script_id, revision, "Changed the script", lambda _script, _steps: dict(parts))


def set_script_phrases(scope: Scope, script_id: int, revision: int, language: str, phrases: Mapping[str, str]) -> int:
    """Say what texts are called in another language of the script; an empty one is not translated.

    Raises NotFound for a language that it does not have.
    """

    def change(script: Script, _steps: _Steps) -> dict[str, Any]:
        if language not in script.languages[1:]:
            raise NotFound("The script has no such language.")
        said = {text: words.strip() for text, words in phrases.items() if words.strip()}
        before = {text: words for text, words in script.phrases.get(language, {}).items() if text not in phrases}
        return {"phrases": {**script.phrases, language: {**before, **said}}}

    return _change(scope, script_id, revision, f"Translated the script ({language})", change)


def set_passing(scope: Scope, script_id: int, revision: int, passing: Sequence[Mapping[str, Any]]) -> int:
    """Say which passing values there are. Raises InvalidInput."""
    return _change(
        scope, script_id, revision, "Changed the passing values", lambda _script, _steps: {"passing": list(passing)}
    )
