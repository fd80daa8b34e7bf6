"""Chat scripts in files: without the ids of one workspace, by keys instead."""

from collections.abc import Mapping
from typing import Any

from finesieve.core.chat.script import Script
from finesieve.core.fields.about import HOUSE, PERSON, record_about
from finesieve.core.fields.definition import Field
from finesieve.core.forms.prepare import resolve
from finesieve.core.model.catalogue import Catalogue

__all__ = ["localised_script", "portable_script"]


def portable_script(script: Script, catalogue: Catalogue) -> dict[str, Any]:
    """A document as JSON, defaults left out; fields by key, those of records as `plots.length`; checks of the library
    spelled out."""
    found = script.model_dump(mode="json", exclude_defaults=True)
    lists = {one.id: one.key for one in catalogue.lists}
    links = {link.id: name for name, link in catalogue.collections_of(PERSON).items()}
    collections: dict[str, str] = {}
    for name, link in catalogue.collections_of(PERSON).items():
        collections.setdefault(record_about(link.record_type_id), name)

    def named(part: dict[str, Any]) -> dict[str, Any]:
        known = catalogue.by_id.get(part.pop("field_id", 0))
        if known is not None:
            place = f"{collections[known.about]}." if known.about in collections else ""
            part["house" if known.about == HOUSE else "field"] = place + known.key
        if "link_id" in part:
            part["records"] = links.get(part.pop("link_id"), "")
        if "list_id" in part:
            part["list"] = lists.get(part.pop("list_id"), "")
        return part

    for step, data in zip(script.steps, found.get("steps", ()), strict=True):
        data["kind"] = step.kind
        named(data)
        if "actions" in data:
            data["actions"] = [named(one) for one in data["actions"]]
        if "checks" in data:
            spelled = [resolve(one, catalogue) or one for one in getattr(step, "checks", ())]
            data["checks"] = [
                {"kind": one.kind, **one.model_dump(mode="json", exclude_defaults=True, exclude={"kind"})}
                for one in spelled
            ]
    return found


def localised_script(document: Mapping[str, Any], catalogue: Catalogue) -> dict[str, Any]:
    """A portable document with the ids of a workspace. Raises KeyError, with the name, for what is not there."""
    lists = {known.key: known.id for known in catalogue.lists}
    collections = catalogue.collections_of(PERSON)

    def fields_of(collection: str) -> Mapping[str, Field]:
        return catalogue.keys_of(record_about(collections[collection].record_type_id) if collection else PERSON)

    def placed(part: Mapping[str, Any]) -> dict[str, Any]:
        made = {key: value for key, value in part.items() if key not in ("field", "house", "list", "records")}
        if part.get("field"):
            collection, _, key = part["field"].rpartition(".")
            made["field_id"] = fields_of(collection)[key].id
        if part.get("house"):
            made["field_id"] = catalogue.keys_of(HOUSE)[part["house"]].id
        if part.get("records"):
            made["link_id"] = collections[part["records"]].id
        if part.get("list"):
            made["list_id"] = lists[part["list"]]
        return made

    steps = []
    for step in document.get("steps", ()):
        made = placed(step)
        if "actions" in made:
            made["actions"] = [placed(one) for one in made["actions"]]
        steps.append(made)
    return {**document, "steps": steps}
