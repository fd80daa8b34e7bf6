"""A line of a script as its editor posts it."""

from typing import Any, Final

from finesieve.core.chat.script import Script
from finesieve.web.posted import PostedForm, whole_number

__all__ = ["line_parts", "passing_parts", "script_parts"]

_MOST: Final = 20
NEW: Final = "new"


def _number(text: str, usually: int = 0) -> int:
    found = whole_number(text)
    return usually if found is None else found


def _target(form: PostedForm, name: str) -> str:
    return form.text(name).strip()[:10]


def _subject(form: PostedForm, prefix: str = "") -> dict[str, Any]:
    """What is asked or changed: `field:12`, `passing:points`, or nothing."""
    kind, _, rest = form.text(f"{prefix}subject").partition(":")
    return {
        "field_id": _number(rest) if kind == "field" else 0,
        "passing": rest[:60] if kind == "passing" else "",
    }


def line_parts(form: PostedForm, script: Script, step_id: str) -> dict[str, Any]:
    """The parts of a line as they were posted."""
    step = script.step(step_id)
    kind = form.text("kind", step.kind if step is not None else "say")
    if step is not None and kind != step.kind:
        return {"kind": kind, "text": form.text("text")}
    made: dict[str, Any] = {"kind": kind}
    if kind not in ("choose", "branch", "hand_over", "end"):
        made["to"] = _target(form, "to")
    return made | _MAKERS.get(kind, _plain)(form, script)


def _plain(form: PostedForm, _script: Script) -> dict[str, Any]:
    return {"text": form.text("text")}


def _say(form: PostedForm, _script: Script) -> dict[str, Any]:
    texts = []
    for number in range(8):
        text = form.text("text" if number == 0 else f"text_{number}")
        if text.strip() or number == 0:
            texts.append({"text": text, "share": max(1, _number(form.text(f"share_{number}"), 1))})
    if form.text("action") == "another":
        texts.append({"text": "", "share": 1})
    return {
        "texts": texts, "picture": form.text("picture"), "shows": form.text("shows"),
        "link_label": form.text("link_label"), "link_to": form.text("link_to"),
    }  # fmt: skip


def _asking(form: PostedForm) -> dict[str, Any]:
    return {
        **_subject(form), "text": form.text("text"), "retry": form.text("retry"),
        "tries": min(max(_number(form.text("tries"), 3), 1), 20), "then": form.text("then") or "hand",
        "known": form.text("known") or "ask",
    }  # fmt: skip


def _ask(form: PostedForm, script: Script) -> dict[str, Any]:
    low, high = form.text("low").strip(), form.text("high").strip()
    step = script.step(form.text("line"))
    kept = [
        one.model_dump(mode="json") for one in getattr(step, "checks", ()) if one.kind not in ("range", "condition")
    ]
    checks: list[dict[str, Any]] = []
    if low or high:
        checks.append(
            {"kind": "range", "low": low or None, "high": high or None, "message": form.text("range_message")}
        )
    if form.text("condition").strip():
        message = form.text("condition_message")
        checks.append({"kind": "condition", "expression": form.text("condition").strip(), "message": message})
    kind, _, address = form.text("subject").partition(":")
    return {
        **_asking(form),
        "address": address if kind == "address" else "",
        "optional": form.text("optional") == "yes",
        "checks": [*checks, *kept],
    }


def _choose(form: PostedForm, script: Script) -> dict[str, Any]:
    replies = []
    removed = form.text("action").partition(":")[2] if form.text("action").startswith("remove-reply") else ""
    for one in form.texts("reply")[:_MOST]:
        if one == removed:
            continue
        label = form.text(f"{one}_label").strip()
        if label:
            replies.append({
                "id": one, "label": label, "value": form.text(f"{one}_value").strip(), "to": _target(form, f"{one}_to"),
                "kind": form.text(f"{one}_kind") or "reply", "target": form.text(f"{one}_target").strip(),
            })  # fmt: skip
    if form.text("action") == "add-reply" and len(replies) < _MOST:
        replies.append({"id": script.next_id("b"), "label": "Another reply"})
    return {**_asking(form), "replies": replies}


def _branch(form: PostedForm, script: Script) -> dict[str, Any]:
    removed = form.text("action").partition(":")[2] if form.text("action").startswith("remove-case") else ""
    cases = [
        {"id": one, "rule": form.text(f"{one}_rule").strip(), "to": _target(form, f"{one}_to")}
        for one in form.texts("case")[:_MOST]
        if one != removed
    ]
    if form.text("action") == "add-case" and len(cases) < _MOST:
        cases.append({"id": script.next_id("c"), "rule": "", "to": ""})
    return {"cases": cases, "to": _target(form, "to")}


def _record(form: PostedForm, script: Script) -> dict[str, Any]:
    step = script.step(form.text("line"))
    return {
        "text": form.text("text"), "link_id": _number(form.text("link_id")), "which": form.text("which") or "one",
        "or_new": form.text("or_new") == "yes", "another": form.text("another") == "yes",
        "another_text": form.text("another_text"), "inside": step.inside.model_dump(mode="json"),
    }  # fmt: skip


def _confirm(form: PostedForm, _script: Script) -> dict[str, Any]:
    return {"text": form.text("text"), "tries": min(max(_number(form.text("tries"), 3), 1), 20)}


def _do(form: PostedForm, _script: Script) -> dict[str, Any]:
    actions = []
    removed = form.text("action").partition(":")[2] if form.text("action").startswith("remove-action") else ""
    for number in form.texts("act")[:_MOST]:
        if number == removed:
            continue
        verb = form.text(f"act{number}_verb") or "becomes"
        actions.append({
            "verb": verb, **_subject(form, f"act{number}_"), "list_id": _number(form.text(f"act{number}_list")),
            "value": form.text(f"act{number}_value").strip(),
        })  # fmt: skip
    if form.text("action") == "add-action" and len(actions) < _MOST:
        actions.append({"verb": "becomes"})
    return {"actions": actions, "now": form.text("now") == "yes"}


def _wait(form: PostedForm, _script: Script) -> dict[str, Any]:
    return {
        "text": form.text("text"), "field_id": _subject(form)["field_id"],
        "minutes": max(0, _number(form.text("minutes"))), "late_to": _target(form, "late_to"),
    }  # fmt: skip


def _hand(form: PostedForm, _script: Script) -> dict[str, Any]:
    return {"text": form.text("text"), "note": form.text("note")}


def _goto(form: PostedForm, _script: Script) -> dict[str, Any]:
    return {"script": form.text("script")[:60]}


_MAKERS: Final = {
    "say": _say, "ask": _ask, "choose": _choose, "branch": _branch, "record": _record, "confirm": _confirm, "do": _do,
    "wait": _wait, "hand_over": _hand, "go_to": _goto,
}  # fmt: skip


def script_parts(form: PostedForm) -> dict[str, Any]:
    """What a script is besides its lines, as it was posted."""
    channels = [one for one in form.texts("channel") if one in ("web", "text")]
    languages = list(dict.fromkeys([form.text("language") or "en", *form.texts("also")]))
    sites = [line.strip() for line in form.text("embed_on").splitlines() if line.strip()]
    return {
        "title": form.text("title").strip(), "purpose": form.text("purpose").strip(),
        "group": form.text("group").strip(),
        "speaker": form.text("speaker").strip(), "speaker_picture": form.text("speaker_picture"),
        "channels": channels or ["web"], "languages": languages, "silence": max(1, _number(form.text("silence"), 72)),
        "embed_on": sites,
    }  # fmt: skip


def passing_parts(form: PostedForm, script: Script) -> list[dict[str, Any]]:
    """The passing values as they were posted, a new one among them."""
    found = []
    for number in form.texts("passing")[:60]:
        key = form.text(f"p{number}_key").strip()
        if key:
            found.append({
                "key": key, "label": form.text(f"p{number}_label").strip() or key.replace("_", " ").capitalize(),
                "type_key": form.text(f"p{number}_type") or "number", "unit": form.text(f"p{number}_unit").strip(),
                "start": form.text(f"p{number}_start").strip(),
                "options": [one.strip() for one in form.text(f"p{number}_options").split(",") if one.strip()],
            })  # fmt: skip
    return found
