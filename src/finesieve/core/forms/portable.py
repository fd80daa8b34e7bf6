"""Forms in files: without the ids of one workspace, by keys and names instead."""

from collections.abc import Mapping
from typing import Any

from finesieve.core.catalogue import Catalogue
from finesieve.core.fields.about import PERSON, record_about
from finesieve.core.forms.checks import Check
from finesieve.core.forms.earlier import upgraded

__all__ = ["asked_fields", "localised", "portable"]


def portable(document: Mapping[str, Any], catalogue: Catalogue) -> dict[str, Any]:
    """A document (as JSON, defaults left out) with field keys, record types by key, checks of the library spelled out.

    Questions whose field is gone are left out.
    """
    return {**document, "sections": [_section(section, catalogue) for section in document.get("sections", ())]}


def _section(section: Mapping[str, Any], catalogue: Catalogue) -> dict[str, Any]:
    found = dict(section)
    repeat = found.get("repeat")
    if repeat:
        known = catalogue.record_types_by_id.get(repeat["record_type"])
        link = catalogue.links.get(repeat.get("link", 0))
        found["repeat"] = {
            **repeat,
            "record_type": known.key if known else "",
            **({"link": link.back_key} if link else {}),
        }
        if not link:
            found["repeat"].pop("link", None)
    items = []
    for item in found.get("items", ()):
        if "field_id" not in item:
            items.append(item)
            continue
        known_field = catalogue.by_id.get(item["field_id"])
        if known_field is not None:
            rest = {key: value for key, value in item.items() if key != "field_id"}
            items.append({"field": known_field.key, **rest, **_checks(item, catalogue)})
    return {**found, "items": items}


def _checks(item: Mapping[str, Any], catalogue: Catalogue) -> dict[str, Any]:
    if not item.get("checks"):
        return {}
    return {"checks": [_spelled_out(check, catalogue) for check in item["checks"]]}


def _spelled_out(check: Mapping[str, Any], catalogue: Catalogue) -> Mapping[str, Any]:
    known = catalogue.checks.get(check.get("check_id", 0))
    if check.get("kind") != "named" or known is None:
        return check
    own: Check = known.check
    message = check.get("message") or own.message
    return own.model_copy(update={"message": message}).model_dump(mode="json", exclude_none=True)


def asked_fields(document: Mapping[str, Any]) -> list[tuple[str, str]]:
    """The fields that a portable document asks, as (key of the record type or "", key of the field)."""
    found = []
    for section in upgraded(document).get("sections", ()):
        repeat = section.get("repeat") or {}
        found += [
            (str(repeat.get("record_type", "")), str(item["field"]))
            for item in section.get("items", ())
            if "field" in item
        ]
    return found


def localised(document: Mapping[str, Any], catalogue: Catalogue) -> dict[str, Any]:
    """A portable document with the ids of a workspace. Raises KeyError, with the name, for what is not there."""
    found = upgraded(document)
    types = {known.key: known for known in catalogue.record_types}
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
    keys = catalogue.keys_of(about)
    if item["field"] not in keys:
        raise KeyError(item["field"])
    return {**{key: value for key, value in item.items() if key != "field"}, "field_id": keys[item["field"]].id}
