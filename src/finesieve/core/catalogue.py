"""The catalogue: everything a workspace has defined, ready for use."""

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, replace
from functools import cached_property, lru_cache
from zoneinfo import ZoneInfo

from finesieve.core.fields.definition import Field
from finesieve.core.language.checker import Checked, check
from finesieve.core.language.derived import Derivation, find_circle
from finesieve.core.values import Kind, Type

__all__ = ["Catalogue", "Group", "build_catalogue", "circle_with"]


@dataclass(frozen=True, slots=True)
class Group:
    """A named, ordered set of fields."""

    id: int
    name: str
    description: str = ""


@dataclass(frozen=True)
class Catalogue:
    """The groups and fields of one workspace, in their order, at one version.

    `broken` names derived fields whose formula cannot be worked out any more;
    their value is blank.
    """

    version: int
    zone: ZoneInfo
    groups: tuple[Group, ...]
    fields: tuple[Field, ...]
    derivation: Derivation
    broken: frozenset[str] = frozenset()

    @cached_property
    def by_id(self) -> Mapping[int, Field]:
        return {field.id: field for field in self.fields}

    @cached_property
    def by_key(self) -> Mapping[str, Field]:
        return {field.key: field for field in self.fields}

    @cached_property
    def names(self) -> Mapping[str, Type]:
        """The type of every field by key, for the checker."""
        return {field.key: field.value_type for field in self.fields if field.key not in self.broken}

    @cached_property
    def stored(self) -> tuple[Field, ...]:
        """The fields whose values are kept, not worked out."""
        return tuple(field for field in self.fields if not field.derived)

    @cached_property
    def derived(self) -> tuple[Field, ...]:
        return tuple(field for field in self.fields if field.derived)

    def of_group(self, group_id: int) -> tuple[Field, ...]:
        """The fields of a group, in order."""
        return tuple(field for field in self.fields if field.group_id == group_id)

    def check(self, text: str, expect: Kind | None = None) -> Checked:
        """Check an expression over these fields. What was checked lately is remembered."""
        return self._checked(text, expect)

    @cached_property
    def _checked(self) -> Callable[[str, Kind | None], Checked]:
        # Kept with the catalogue, so that a changed definition begins with nothing remembered.
        @lru_cache(maxsize=512)
        def remembered(text: str, expect: Kind | None) -> Checked:
            return check(text, self.names, zone=self.zone, expect=expect)

        return remembered


def build_catalogue(version: int, zone: ZoneInfo, groups: Iterable[Group], fields: Iterable[Field]) -> Catalogue:
    """Type the derived fields, those first that others build on.

    A formula that has problems, or stands in a circle, marks its field as broken.
    """
    known = tuple(fields)
    names = {field.key: field.value_type for field in known if not field.derived}
    waiting = {field.key: field for field in known if field.derived}
    formulas = {}
    results: dict[str, Type] = {}
    progress = True
    while waiting and progress:
        progress = False
        for key, field in list(waiting.items()):
            typed = check(field.formula, names, zone=zone).typed
            if typed is not None:
                formulas[key] = typed
                results[key] = typed.type
                names[key] = results[key]
                del waiting[key]
                progress = True
    typed_fields = tuple(
        replace(field, result=results.get(field.key, Type("text"))) if field.derived else field for field in known
    )
    return Catalogue(version, zone, tuple(groups), typed_fields, Derivation(formulas), frozenset(waiting))


def circle_with(catalogue: Catalogue, key: str, names: frozenset[str]) -> tuple[str, ...]:
    """The circle that a formula reading `names` would make, from the field `key` round to it; () if none."""
    circle = find_circle(dict(catalogue.derivation.needs) | {key: names})
    if key not in circle:
        return ()
    start = circle.index(key)
    return (*circle[start:-1], *circle[:start], key)
