"""The catalogue: everything a workspace has defined, ready for use."""

from collections.abc import Callable, Hashable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property, lru_cache
from typing import Any, Final
from zoneinfo import ZoneInfo

from finesieve.core.commerce.facts import ORDER_FACTS, ORDERS
from finesieve.core.commerce.shop import Shop
from finesieve.core.errors import NotFound
from finesieve.core.fields.about import HOUSE, LEVEL, ORDER, PERSON, SIFTING, record_about, record_type_of
from finesieve.core.fields.definition import Field
from finesieve.core.fields.groups import GroupSettings
from finesieve.core.fields.manner import PLAIN, Manner
from finesieve.core.fields.options import Option
from finesieve.core.language import tree
from finesieve.core.language.checker import Checked, check
from finesieve.core.language.derived import Derivation, find_circle
from finesieve.core.language.names import NOBODY, Place, World
from finesieve.core.language.parser import parse
from finesieve.core.language.problems import Problem
from finesieve.core.language.sentence import Names, Part, tree_to_part
from finesieve.core.language.typed import HISTORY, Typed
from finesieve.core.model.changes import OWN_IDS
from finesieve.core.model.checks import OwnCheck
from finesieve.core.model.level_ends import LevelEnd
from finesieve.core.model.level_fees import LevelFee
from finesieve.core.values import Kind, Type

__all__ = [
    "LEVEL_QUESTION",
    "OWN_NAMES",
    "Catalogue",
    "Group",
    "LibraryCheck",
    "Link",
    "NamedList",
    "NamedSegment",
    "PersonalLink",
    "RecordType",
    "build_catalogue",
    "circle_with",
    "field_of",
    "hidden_groups",
    "rebuilt",
]


PLAIN_GROUP: Final = GroupSettings()


@dataclass(frozen=True, slots=True)
class Group:
    """A named, ordered set of fields about one thing, with settings for all of them."""

    id: int
    name: str
    description: str = ""
    about: str = PERSON
    settings: GroupSettings = PLAIN_GROUP


@dataclass(frozen=True, slots=True)
class Link:
    """A link of a record type to people in a role, to an order, or to other records.

    `name` is what the record calls the other side (holder), `back_name` what the
    other side calls the records (plots), under `back_key` in expressions.
    `target` is what it leads to: person, order, or `record:5`.
    """

    id: int
    record_type_id: int
    name: str
    target: str
    many: bool
    back_name: str
    back_key: str


@dataclass(frozen=True, slots=True)
class RecordType:
    """A kind of thing a person has several of. `key` names it in files."""

    id: int
    key: str
    singular: str
    plural: str
    symbol: str = ""
    description: str = ""
    title_field: int = 0
    links: tuple[Link, ...] = ()

    @property
    def about(self) -> str:
        return record_about(self.id)

    @property
    def main_link(self) -> Link | None:
        """The first link to people: whose profile the records are listed on, before all others."""
        return next((link for link in self.links if link.target == PERSON), None)


@dataclass(frozen=True, slots=True)
class LibraryCheck:
    """A named check that many questions can use."""

    id: int
    name: str
    check: OwnCheck


@dataclass(frozen=True, slots=True)
class NamedList:
    """A list of people, or a membership level: an id, the key expressions know it by, a name, how long a level is held
    (None without end), and what it costs (None for nothing)."""

    id: int
    key: str
    name: str
    lasts: LevelEnd | None = None
    fee: LevelFee | None = None


@dataclass(frozen=True, slots=True)
class NamedSegment:
    """A segment that conditions can name by its key."""

    id: int
    key: str
    name: str
    expression: str


@dataclass(frozen=True, slots=True)
class PersonalLink:
    """A link that texts can hold, `{link.my_answers}`: it opens a form as whoever it was sent to."""

    id: int
    key: str
    name: str


LEVEL_QUESTION: Final = OWN_IDS["level"]
"""The id of the level where a form asks it, as if it were a field."""
OWN_NAMES: Final[Mapping[str, str]] = {
    "tags": "the labels on the person",
    "lists": "the lists the person is on",
    "level": "the membership level held",
}
"""Names of a person that are no fields."""


@dataclass(frozen=True)
class Catalogue:
    """The groups and fields of one workspace, in their order, at one version.

    `all_fields` are those about all things; `fields` those about a person.
    `broken` names derived fields of a person whose formula cannot be worked out any
    more; their value is blank. `deleted` are fields that can be brought back.
    `unknown` names what expressions do not know, as (about, key); see `as_others_know_it`.
    """

    version: int
    zone: ZoneInfo
    all_groups: tuple[Group, ...]
    all_fields: tuple[Field, ...]
    derivations: Mapping[str, Derivation]
    broken_by_about: Mapping[str, frozenset[str]] = field(default_factory=dict)
    record_types: tuple[RecordType, ...] = ()
    lists: tuple[NamedList, ...] = ()
    levels: tuple[NamedList, ...] = ()
    tags: tuple[str, ...] = ()
    deleted: tuple[Field, ...] = ()
    manner: Manner = PLAIN
    checks: Mapping[int, LibraryCheck] = field(default_factory=dict)
    shop: Shop | None = None
    personal_links: tuple[PersonalLink, ...] = ()
    unknown: frozenset[tuple[str, str]] = frozenset()
    segments: tuple[NamedSegment, ...] = ()

    # Who may see what

    @cached_property
    def for_editors(self) -> frozenset[tuple[str, str]]:
        """What only editors and owners see, as (about, key): the fields of their groups, and all that is worked out
        from those, over however many steps."""
        return self._with_followers(
            (one.about, one.key)
            for one in self.all_fields
            if (group := self.groups_by_id.get(one.group_id)) is not None and group.settings.seen_by == "editors"
        )

    @cached_property
    def not_for_the_person(self) -> frozenset[tuple[str, str]]:
        """What is never told to the person it is about, as (about, key): what is private to staff, and all that is
        worked out from that."""
        hidden = hidden_groups(self)
        return self._with_followers(
            (one.about, one.key) for one in self.all_fields if one.settings.private or one.group_id in hidden
        )

    def _with_followers(self, places: Iterable[tuple[str, str]]) -> frozenset[tuple[str, str]]:
        """These fields, as (about, key), and all that is worked out from them, over however many steps."""
        found = set(places)
        formulas = {
            (about, key): formula.reads
            for about, derivation in self.derivations.items()
            for key, formula in derivation.formulas.items()
        }
        waiting = True
        while waiting:
            more = {place for place, reads in formulas.items() if place not in found and not found.isdisjoint(reads)}
            found |= more
            waiting = bool(more)
        return frozenset(found)

    @cached_property
    def remembered(self) -> dict[Hashable, Any]:
        """What others have worked out of it, for as long as it is in use."""
        return {}

    @cached_property
    def as_others_know_it(self) -> "Catalogue":
        """The same for those who are no editors: to their expressions, what they may not see is unknown."""
        return replace(self, unknown=self.for_editors) if self.for_editors else self

    # About a person, the most common case

    @cached_property
    def groups(self) -> tuple[Group, ...]:
        return self.groups_about(PERSON)

    @cached_property
    def fields(self) -> tuple[Field, ...]:
        return self.fields_about(PERSON)

    @cached_property
    def by_key(self) -> Mapping[str, Field]:
        return self.keys_of(PERSON)

    @property
    def derivation(self) -> Derivation:
        return self.derivation_of(PERSON)

    @property
    def broken(self) -> frozenset[str]:
        return self.broken_by_about.get(PERSON, frozenset())

    @cached_property
    def names(self) -> Mapping[str, Type]:
        """The type of every field of a person by key, for sentences."""
        return self.world(PERSON).base.names

    @cached_property
    def spoken(self) -> Names:
        """What a sentence about a person may speak of."""
        world = self.world(SIFTING)

        def named(about: str, types: Mapping[str, Type]) -> dict[str, Type]:
            return {world.name_of(key, about): type_ for key, type_ in types.items()}

        records = {
            key: named(record_about(link.record_type_id), self.world(record_about(link.record_type_id)).base.names)
            for key, link in self.collections_of(PERSON).items()
        }
        segments = {f"segment.{key}": type_ for key, type_ in (world.prefixes["segment"] or {}).items()}
        past = frozenset(world.name_of(key, PERSON) for key in world.remembered)
        return Names({**named(PERSON, self.names), **segments}, records, past)

    def clause(self, node: tree.Node) -> Part:
        """A condition about a person as the part of a sentence that says it; quoted where no sentence can."""
        return self._clauses(node)

    @cached_property
    def _clauses(self) -> Callable[[tree.Node], Part]:
        # Kept with the catalogue: the conditions of all segments stand on every profile.
        return lru_cache(maxsize=1_024)(lambda node: tree_to_part(node, self.spoken))

    @cached_property
    def stored(self) -> tuple[Field, ...]:
        """The fields of a person whose values are kept, not worked out."""
        return self.stored_about(PERSON)

    @cached_property
    def derived(self) -> tuple[Field, ...]:
        return tuple(field for field in self.fields if field.derived)

    # About anything

    @cached_property
    def by_id(self) -> Mapping[int, Field]:
        """All fields, and (where there are levels) the level, which a form can ask like a field."""
        known = {field.id: field for field in self.all_fields}
        if self.levels:
            options = tuple(Option(level.name, level.key) for level in self.levels)
            known[LEVEL_QUESTION] = Field(
                LEVEL_QUESTION, "level", "Level", "progress", 0, options=options, built_in=True
            )
        return known

    @cached_property
    def _by_about(self) -> Mapping[str, tuple[Field, ...]]:
        sorted_: dict[str, list[Field]] = {}
        for known in self.all_fields:
            sorted_.setdefault(known.about, []).append(known)
        return {about: tuple(fields) for about, fields in sorted_.items()}

    @cached_property
    def called(self) -> Mapping[str, Mapping[str, str]]:
        """The other names that fields go by, deleted ones last, with their keys, by what they are about."""
        found: dict[str, dict[str, str]] = {}
        for known in (*self.all_fields, *self.deleted):
            for name in known.names:
                if name != known.key:
                    found.setdefault(known.about, {}).setdefault(name, known.key)
        return found

    @cached_property
    def names_of_keys(self) -> Mapping[str, Mapping[str, str]]:
        """What fields are called that are not called by their key, by what they are about and the key."""
        found: dict[str, dict[str, str]] = {}
        for known in self.all_fields:
            if known.name != known.key:
                found.setdefault(known.about, {})[known.key] = known.name
        return found

    def named(self, about: str) -> Mapping[str, Field]:
        """The fields about one thing by every name that they go by."""
        known = self.keys_of(about)
        others = self.called.get(about)
        if not others:
            return known
        return {**{name: known[key] for name, key in others.items() if key in known}, **known}

    @cached_property
    def _keys(self) -> Mapping[str, Mapping[str, Field]]:
        return {about: {field.key: field for field in fields} for about, fields in self._by_about.items()}

    @cached_property
    def _grouped(self) -> Mapping[int, tuple[Field, ...]]:
        sorted_: dict[int, list[Field]] = {}
        for known in self.all_fields:
            sorted_.setdefault(known.group_id, []).append(known)
        return {group_id: tuple(fields) for group_id, fields in sorted_.items()}

    def fields_about(self, about: str) -> tuple[Field, ...]:
        """The fields about one thing, in order."""
        return self._by_about.get(about, ())

    def keys_of(self, about: str) -> Mapping[str, Field]:
        """The fields about one thing by key."""
        return self._keys.get(about, {})

    def stored_about(self, about: str) -> tuple[Field, ...]:
        """The fields about one thing whose values are kept."""
        return tuple(field for field in self.fields_about(about) if field.stores)

    def groups_about(self, about: str) -> tuple[Group, ...]:
        """The groups about one thing, in order."""
        return tuple(group for group in self.all_groups if group.about == about)

    def of_group(self, group_id: int) -> tuple[Field, ...]:
        """The fields of a group, in order."""
        return self._grouped.get(group_id, ())

    def derivation_of(self, about: str) -> Derivation:
        """The compiled formulas about one thing."""
        return self.derivations.get(about, _NO_FORMULAS)

    @cached_property
    def groups_by_id(self) -> Mapping[int, Group]:
        return {group.id: group for group in self.all_groups}

    @cached_property
    def record_types_by_id(self) -> Mapping[int, RecordType]:
        return {known.id: known for known in self.record_types}

    @cached_property
    def links(self) -> Mapping[int, Link]:
        """All links by id."""
        return {link.id: link for known in self.record_types for link in known.links}

    def collections_of(self, about: str) -> Mapping[str, Link]:
        """The links that lead to one thing, by the key of the collection they make there."""
        return {link.back_key: link for link in self.links.values() if link.target == about}

    def changer_of(self, field: Field) -> tuple[str, frozenset[str]]:
        """Who may change a field once it is filled, and (for `levels`) the keys of the levels that may: as the field
        says, else its group."""
        own = field.settings
        if own.change_by != "group":
            return own.change_by, frozenset(one.key for one in self.levels if one.id in own.change_levels)
        group = self.groups_by_id.get(field.group_id)
        settings = group.settings if group is not None else PLAIN_GROUP
        return settings.change_by, frozenset(settings.change_levels)

    def say_about(self, about: str) -> str:
        """What a field is about, in words: `one person`, `a plot`."""
        known = self.record_types_by_id.get(record_type_of(about))
        words = {PERSON: "one person", ORDER: "one order", LEVEL: "a membership level", HOUSE: "the house"}
        return f"one {known.singular.lower()}" if known else words.get(about, about)

    def world(self, about: str) -> World:
        """All that is in reach of an expression that stands with one thing."""
        return self._worlds(about)

    @cached_property
    def _worlds(self) -> Callable[[str], World]:
        @lru_cache(maxsize=512)
        def made(about: str) -> World:
            if about == SIFTING:
                return self._sifting()
            return _world(self, about, {about_: self._sound_names(about_) for about_ in self._abouts})

        return made

    def _sifting(self) -> World:
        """A person, and the segments that can be counted: each stands for its condition, unknown being not in it."""
        known: dict[str, Typed] = {}
        left = list(self.segments)
        while left:
            world = _with_segments(self.world(PERSON), known)
            checked = {one.key: check(one.expression or "true", world, zone=self.zone, expect="yes_no") for one in left}
            sound = {
                key: _or_not(one.typed)
                for key, one in checked.items()
                if one.typed is not None and sum(1 for _ in one.typed.walk()) <= _LARGEST_SEGMENT
            }
            if not sound:
                break  # what is left names what is not there, or leads round in a circle
            known |= sound
            left = [one for one in left if one.key not in sound]
        return _with_segments(self.world(PERSON), known)

    def segments_below(self, expression: str) -> frozenset[str]:
        """The keys of all segments that a condition names, over however many steps."""
        expressions = {one.key: one.expression for one in self.segments}
        found: set[str] = set()
        waiting = [expression]
        while waiting:
            for key in _segments_named(waiting.pop()) - found:
                found.add(key)
                waiting.append(expressions.get(key, ""))
        return frozenset(found)

    def check_segment(self, text: str, own: str = "") -> Checked:
        """Check the condition of a segment, of the one with the key `own`; one that would rest on itself has a
        problem."""
        checked = self.check(text, "yes_no", SIFTING)
        if not own or checked.tree is None or own not in self.segments_below(text):
            return checked
        guilty = next(
            part
            for part in tree.walk(checked.tree)
            if isinstance(part, tree.Name) and part.path[0] == "segment"
            and own in {part.path[-1]} | self.segments_below(f"segment.{part.path[-1]}")
        )  # fmt: skip
        names = {one.key: one.name for one in self.segments}
        way = " → ".join(dict.fromkeys((names.get(own, own), names.get(guilty.path[-1], guilty.path[-1]))))
        message = f"This segment would be sifted by itself: {way} → {names.get(own, own)}."
        return Checked(checked.tree, None, (Problem("circle", guilty.span, message),))

    @cached_property
    def histories_read(self) -> frozenset[str]:
        """The keys of the fields of a person whose past the derived fields read."""
        return frozenset(
            name.removeprefix(HISTORY)
            for formula in self.derivation.formulas.values()
            for name in formula.names
            if name.startswith(HISTORY)
        )

    @cached_property
    def lasting_world(self) -> World:
        """The world of a published form: deleted fields of a person are there still, and always blank."""
        world = self.world(PERSON)
        gone = {field.key: field.value_type for field in self.deleted if field.about == PERSON and field.stores}
        return replace(world, base=replace(world.base, names={**gone, **world.base.names}))

    @cached_property
    def _abouts(self) -> tuple[str, ...]:
        return (PERSON, ORDER, LEVEL, HOUSE, *(known.about for known in self.record_types))

    def _sound_names(self, about: str) -> Mapping[str, Type]:
        broken = self.broken_by_about.get(about, frozenset())
        return {
            known.key: known.value_type
            for known in self.fields_about(about)
            if known.key not in broken
            and (known.derived or known.type.stores)
            and (about, known.key) not in self.unknown
        }

    def check(self, text: str, expect: Kind | None = None, about: str = PERSON) -> Checked:
        """Check an expression that stands with one thing. What was checked lately is remembered."""
        return self._checked(text, expect, about)

    @cached_property
    def _checked(self) -> Callable[[str, Kind | None, str], Checked]:
        # Kept with the catalogue, so that a changed definition begins with nothing remembered.
        @lru_cache(maxsize=2_048)
        def remembered(text: str, expect: Kind | None, about: str) -> Checked:
            return check(text, self.world(about), zone=self.zone, expect=expect)

        return remembered


_NO_FORMULAS: Final = Derivation({})


def hidden_groups(catalogue: Catalogue) -> frozenset[int]:
    """The groups whose fields only staff see."""
    return frozenset(group.id for group in catalogue.all_groups if group.settings.seen_by != "everyone")


def _own_names(catalogue: Catalogue) -> dict[str, Type]:
    return {
        "tags": Type("choices", (), "tags", never_blank=True),
        "lists": Type(
            "choices",
            tuple(known.key for known in catalogue.lists),
            "lists",
            never_blank=True,
            labels=tuple(known.name for known in catalogue.lists),
        ),
        "level": Type(
            "choice",
            tuple(known.key for known in catalogue.levels),
            "level",
            ordered=True,
            labels=tuple(known.name for known in catalogue.levels),
        ),
    }


_LARGEST_SEGMENT: Final = 2_000
"""Parts of a condition, those of the segments it names counted in; a larger one cannot be named by others."""


def _or_not(typed: Typed) -> Typed:
    """A condition that is never unknown: false where it cannot be told."""
    whole = check("true else false", NOBODY).typed
    assert whole is not None
    return replace(whole, parts=(typed, whole.parts[1]))


def _segments_named(expression: str) -> set[str]:
    if "segment." not in expression.lower():
        return set()
    found = parse(expression).tree if expression.strip() else None
    names = (part for part in tree.walk(found) if isinstance(part, tree.Name)) if found is not None else ()
    return {one.path[1] for one in names if one.path[0] == "segment" and len(one.path) == 2}


def _with_segments(world: World, known: Mapping[str, Typed]) -> World:
    names = {key: Type("yes_no") for key in known}
    inlined = {f"segment.{key}": typed for key, typed in known.items()}
    return replace(world, prefixes={**world.prefixes, "segment": names}, inlined=inlined)


def _world(catalogue: Catalogue, about: str, names: Mapping[str, Mapping[str, Type]]) -> World:
    own = _own_names(catalogue)
    members = {}
    for other, known in names.items():
        merged = {**known, **own} if other == PERSON else {**(ORDER_FACTS if other == ORDER else {}), **known}
        collections = {key: record_about(link.record_type_id) for key, link in catalogue.collections_of(other).items()}
        if other == HOUSE:
            collections["people"] = PERSON
        if other == PERSON and catalogue.shop is not None:
            collections.setdefault(ORDERS, ORDER)
        members[other] = Place(other, merged, collections)
    gone = {
        ("house." if known.about == HOUSE else "") + name: (
            f"“{known.label}” was deleted; it can be brought back from the deleted fields."
        )
        for known in catalogue.deleted
        for name in known.names
    }
    base = members.get(about, Place(about, {}))
    remembered = {one.key for one in catalogue.fields_about(PERSON) if one.stores} | OWN_IDS.keys()
    return World(
        base, members, gone, {HOUSE: members[HOUSE].names}, remembered=frozenset(remembered),
        called=catalogue.called, names=catalogue.names_of_keys,
    )  # fmt: skip


def build_catalogue(
    version: int,
    zone: ZoneInfo,
    groups: Iterable[Group],
    fields: Iterable[Field],
    *,
    record_types: Sequence[RecordType] = (),
    lists: Sequence[NamedList] = (),
    levels: Sequence[NamedList] = (),
    tags: Sequence[str] = (),
    deleted: Sequence[Field] = (),
    manner: Manner = PLAIN,
    checks: Sequence[LibraryCheck] = (),
    shop: Shop | None = None,
    personal_links: Sequence[PersonalLink] = (),
    segments: Sequence[NamedSegment] = (),
) -> Catalogue:
    """Type the derived fields, those first that others build on.

    A formula that has problems, or stands in a circle, marks its field as broken.
    """
    known = tuple(fields)
    bare = Catalogue(
        version,
        zone,
        tuple(groups),
        known,
        {},
        {},
        tuple(record_types),
        tuple(lists),
        tuple(levels),
        tuple(tags),
        tuple(deleted),
        manner,
        {one.id: one for one in checks},
        shop,
        tuple(personal_links),
        segments=tuple(segments),
    )
    names: dict[str, dict[str, Type]] = {about: {} for about in bare._abouts}
    for one in known:
        if one.stores:
            names.setdefault(one.about, {})[one.key] = one.value_type
    typed = _type_formulas(bare, names)
    results = {place: formula.type for place, formula in typed.items()}
    made = tuple(
        replace(one, result=results.get((one.about, one.key), Type("text"))) if one.derived else one for one in known
    )
    formulas: dict[str, dict[str, Typed]] = {}
    for (about, key), formula in typed.items():
        formulas.setdefault(about, {})[key] = formula
    broken: dict[str, set[str]] = {}
    for one in known:
        if one.derived and (one.about, one.key) not in typed:
            broken.setdefault(one.about, set()).add(one.key)
    return replace(
        bare,
        all_fields=made,
        derivations={about: Derivation(found) for about, found in formulas.items()},
        broken_by_about={about: frozenset(keys) for about, keys in broken.items()},
    )


def rebuilt(catalogue: Catalogue, fields: Iterable[Field]) -> Catalogue:
    """The same catalogue with other fields: what would be, were they so."""
    return build_catalogue(
        catalogue.version, catalogue.zone, catalogue.all_groups, fields, record_types=catalogue.record_types,
        lists=catalogue.lists, levels=catalogue.levels, tags=catalogue.tags, deleted=catalogue.deleted,
        manner=catalogue.manner, checks=tuple(catalogue.checks.values()), shop=catalogue.shop,
        personal_links=catalogue.personal_links, segments=catalogue.segments,
    )  # fmt: skip


def _type_formulas(bare: Catalogue, names: dict[str, dict[str, Type]]) -> dict[tuple[str, str], Typed]:
    """The checked formula of every derived field that has one, by (about, key)."""
    waiting = [one for one in bare.all_fields if one.derived]
    found: dict[tuple[str, str], Typed] = {}
    progress = True
    while waiting and progress:
        progress = False
        worlds: dict[str, World] = {}
        for one in list(waiting):
            if one.about not in worlds:
                worlds[one.about] = _world(bare, one.about, names)
            typed = check(one.formula, worlds[one.about], zone=bare.zone).typed
            if typed is not None:
                found[(one.about, one.key)] = typed
                names[one.about][one.key] = typed.type
                waiting.remove(one)
                progress = True
                worlds.clear()
    return found


def circle_with(
    catalogue: Catalogue, key: str, reads: frozenset[tuple[str, str]], about: str = PERSON
) -> tuple[str, ...]:
    """The circle that a formula reading `reads` would make, from the field `key` round to it; () if none."""
    needs = {
        f"{other}/{name}": frozenset(f"{part}/{read}" for part, read in formula.reads)
        for other, derivation in catalogue.derivations.items()
        for name, formula in derivation.formulas.items()
    }
    own = f"{about}/{key}"
    circle = find_circle(needs | {own: frozenset(f"{part}/{read}" for part, read in reads)})
    if own not in circle:
        return ()
    start = circle.index(own)
    return tuple(name.rpartition("/")[2] for name in (*circle[start:-1], *circle[:start], own))


def field_of(catalogue: Catalogue, field_id: int) -> Field:
    """A field by id. Raises NotFound."""
    field = catalogue.by_id.get(field_id)
    if field is None:
        raise NotFound("There is no such field.")
    return field
