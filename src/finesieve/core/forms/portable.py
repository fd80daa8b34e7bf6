"""Forms in files: without the ids of one workspace, by keys and names instead."""

from collections.abc import Mapping
from typing import Any

from pydantic import BaseModel

from finesieve.core.fields.about import ORDER, PERSON, record_about
from finesieve.core.forms.definition import Form, Question, Remark, Section
from finesieve.core.forms.earlier import upgraded
from finesieve.core.forms.prepare import resolve
from finesieve.core.model.catalogue import LEVEL_QUESTION, Catalogue
from finesieve.core.model.checks import Check

__all__ = ["asked_fields", "localised", "portable"]


def portable(form: Form, catalogue: Catalogue) -> dict[str, Any]:
    """A document as JSON, defaults left out: field keys, record types by key, checks of the library spelled out.

    Questions whose field is gone are left out.
    """
    found = _plain(form, "sections", "joins")
    joins = [one.key for one in catalogue.lists if one.id in form.joins]
    found |= {"joins": joins} if joins else {}
    return {**found, "sections": [_section(section, catalogue) for section in form.sections]}


def _plain(part: BaseModel, *without: str) -> dict[str, Any]:
    return part.model_dump(mode="json", exclude_defaults=True, exclude=set(without))


def _section(section: Section, catalogue: Catalogue) -> dict[str, Any]:
    found = _plain(section, "items", "repeat")
    if section.repeat:
        known = catalogue.record_types_by_id.get(section.repeat.record_type)
        link = catalogue.links.get(section.repeat.link)
        found["repeat"] = {**_plain(section.repeat, "link"), "record_type": known.key if known else ""}
        found["repeat"] |= {"link": link.back_key} if link else {}
    items = [_item(item, catalogue) for item in section.items]
    return {**found, "items": [item for item in items if item]}


def _item(item: Question | Remark, catalogue: Catalogue) -> dict[str, Any]:
    if isinstance(item, Remark):
        return _plain(item)
    known = catalogue.by_id.get(item.field_id)
    if known is None:
        return {}
    found: dict[str, Any] = {"field": known.key, **({"about": ORDER} if known.about == ORDER else {})}
    found |= {**_plain(item, "field_id", "checks", "lists")}
    keys = {one.id: one.key for one in catalogue.lists}
    effects = [{"list": keys[one.list_id], **_plain(one, "list_id")} for one in item.lists if one.list_id in keys]
    found |= {"lists": effects} if effects else {}
    if item.checks:
        found["checks"] = [_check(check, catalogue) for check in item.checks]
    return found


def _check(check: Check, catalogue: Catalogue) -> dict[str, Any]:
    found = resolve(check, catalogue) or check
    return {"kind": found.kind, **_plain(found, "kind")}


def asked_fields(document: Mapping[str, Any]) -> list[tuple[str, str]]:
    """The fields that a portable document asks, as (what they are about, `record:plot` say, and their key)."""
    found = []
    for section in upgraded(document).get("sections", ()):
        repeat = section.get("repeat") or {}
        found += [
            (f"record:{repeat['record_type']}" if repeat else str(item.get("about", PERSON)), str(item["field"]))
            for item in section.get("items", ())
            if "field" in item and (item["field"] != "level" or repeat)
        ]
    return found


def localised(document: Mapping[str, Any], catalogue: Catalogue) -> dict[str, Any]:
    """A portable document with the ids of a workspace. Raises KeyError, with the name, for what is not there."""
    found = upgraded(document)
    types = {known.key: known for known in catalogue.record_types}
    lists = {known.key: known.id for known in catalogue.lists}
    found |= {"joins": [lists[key] for key in found["joins"]]} if found.get("joins") else {}
    sections = []
    for section in found.get("sections", ()):
        made = dict(section)
        about = PERSON
        repeat = made.get("repeat")
        if repeat:
            known = types[repeat["record_type"]]
            about = record_about(known.id)
            links = {link.back_key: link.id for link in known.links}
            made["repeat"] = {**repeat, "record_type": known.id, "link": links.get(repeat.get("link", ""), 0)}
        made["items"] = [_local_item(item, about, catalogue) for item in made.get("items", ())]
        sections.append(made)
    return {**found, "sections": sections}


def _local_item(item: Mapping[str, Any], about: str, catalogue: Catalogue) -> dict[str, Any]:
    if "field" not in item:
        return dict(item)
    keys = dict(catalogue.keys_of(ORDER if item.get("about") == ORDER else about))
    if about == PERSON and LEVEL_QUESTION in catalogue.by_id:
        keys.setdefault("level", catalogue.by_id[LEVEL_QUESTION])
    if item["field"] not in keys:
        raise KeyError(item["field"])
    lists = {known.key: known.id for known in catalogue.lists}
    made = {key: value for key, value in item.items() if key not in ("field", "about", "lists")}
    effects = [
        {**{key: value for key, value in one.items() if key != "list"}, "list_id": lists[one["list"]]}
        for one in item.get("lists", ())
    ]
    return {**made, "field_id": keys[item["field"]].id, **({"lists": effects} if effects else {})}
