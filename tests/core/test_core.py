"""Meshes and trays, the catalogue, and that every package says what is public."""

import ast
import importlib
import inspect
import pkgutil
import re
import unittest
from pathlib import Path
from zoneinfo import ZoneInfo

import finesieve.core
from finesieve.core.fields.definition import Field
from finesieve.core.language.parser import parse
from finesieve.core.model.catalogue import Group, build_catalogue, circle_with
from finesieve.core.sieve.meshes import join_meshes, meshes, trays
from tests.support.fields import MOMENT


class Meshes(unittest.TestCase):
    def test_meshes_are_the_parts_of_and(self) -> None:
        """A chain of and falls into meshes and comes back; anything else is one mesh."""
        node = parse("member and zone = 'north' and (unsure or member)").tree
        assert node is not None
        parts = meshes(node)
        self.assertEqual(len(parts), 3)
        self.assertEqual(join_meshes(parts), node)
        either = parse("member or unsure").tree
        assert either is not None
        self.assertEqual(join_meshes(meshes(either)), either)

    def test_trays(self) -> None:
        """What passes a mesh reaches the next; the rest is caught or can't be told."""
        verdicts = {
            (True, True): 2,
            (True, False): 1,
            (True, None): 3,
            (False, True): 2,
            (None, None): 1,
            (False, False): 1,
        }
        first, second = trays(verdicts, (0, 1))
        self.assertEqual((first.reached, first.passes, first.caught, first.cant_tell, first.without), (10, 6, 3, 1, 4))
        self.assertEqual(
            (second.reached, second.passes, second.caught, second.cant_tell, second.without), (6, 2, 1, 3, 6)
        )
        # The other way round, the same people.
        first, second = trays(verdicts, (1, 0))
        self.assertEqual((first.passes, first.caught, first.cant_tell, second.passes), (4, 2, 4, 2))


def derived(number: int, key: str, formula: str) -> Field:
    return Field(number, key, key.title(), "short_text", 1, formula=formula)


class Catalogues(unittest.TestCase):
    length = Field(1, "length", "Length", "number", 1)

    def build(self, *fields: Field) -> finesieve.core.model.catalogue.Catalogue:
        return build_catalogue(1, ZoneInfo("UTC"), [Group(1, "All")], [self.length, *fields])

    def test_derived_fields_are_typed_in_any_order(self) -> None:
        """A formula may build on one that is defined later."""
        catalogue = self.build(derived(2, "large", "area > 10"), derived(3, "area", "length * length"))
        self.assertEqual([field.value_type.kind for field in catalogue.derived], ["yes_no", "number"])
        row = catalogue.derivation.row({"length": 4}, MOMENT)  # type: ignore[dict-item]
        self.assertIs(row.get("large"), True)
        self.assertIsNone(row.get("unheard_of"))

    def test_broken_formulas_do_no_harm(self) -> None:
        """A formula that names what is gone, or itself, is marked; the others work."""
        catalogue = self.build(derived(2, "a", "gone + 1"), derived(3, "b", "b + 1"), derived(4, "c", "length + 1"))
        self.assertEqual(catalogue.broken, {"a", "b"})
        self.assertNotIn("a", catalogue.names)
        self.assertEqual(catalogue.check("a > 1").problems[0].code, "unknown-field")

    def test_circles_are_foreseen(self) -> None:
        """Before a formula is saved, the circle it would close is known."""
        catalogue = self.build(derived(2, "a", "length + 1"), derived(3, "b", "a + 1"))
        self.assertEqual(circle_with(catalogue, "a", frozenset({("person", "b")})), ("a", "b", "a"))
        self.assertEqual(circle_with(catalogue, "c", frozenset({("person", "b")})), ())


class Surface(unittest.TestCase):
    def test_all_that_is_public_is_declared(self) -> None:
        """`__all__` of every module of the core names just what it defines without an underscore."""
        for found in pkgutil.walk_packages(finesieve.core.__path__, "finesieve.core."):
            module = importlib.import_module(found.name)
            if found.ispkg:
                continue
            defined = {
                name
                for name, value in vars(module).items()
                if not name.startswith("_")
                and (inspect.isclass(value) or inspect.isfunction(value))
                and value.__module__ == found.name
            }
            with self.subTest(found.name):
                declared = set(module.__all__)
                self.assertLessEqual(declared, set(vars(module)))
                self.assertEqual({name for name in defined if _documented(vars(module)[name])} - declared, set())

    def test_one_door_for_values(self) -> None:
        """Only `store/values` writes to tables of values, and to their history; others change fixed tables by SQL."""
        root, found = Path(finesieve.__file__).parent, []
        for path in sorted(root.rglob("*.py")):
            if path.relative_to(root).as_posix().startswith(("store/values/", "store/migrations/", "demo/")):
                continue  # the demo loads as it likes
            if path.relative_to(root).as_posix() == "store/definitions/state.py":
                continue  # the state is no value; it is marked for whoever writes one
            for node in ast.walk(ast.parse(path.read_text())):
                name = node.func.id if isinstance(node, ast.Call) and isinstance(node.func, ast.Name) else ""
                if name in ("insert", "update", "delete") and isinstance(node, ast.Call) and node.args:
                    first = node.args[0]
                    if not (isinstance(first, ast.Name) and first.id[:1].isupper()) or first.id == "History":
                        found.append(f"{path.name}:{node.lineno}")
                if name == "History":
                    found.append(f"{path.name}:{node.lineno}")
            written = re.findall(r"(?i)\b(?:INSERT INTO|UPDATE|DELETE FROM|COPY)\s+(?:history\b|w_)", path.read_text())
            found += [f"{path.name}: {one}" for one in written]
        self.assertEqual(found, [])

    def test_what_others_import_is_declared(self) -> None:
        """No module of the product imports from another what that one does not declare."""
        root = Path(finesieve.__file__).parent
        trees = {
            ".".join(("finesieve", *path.relative_to(root).with_suffix("").parts)): ast.parse(path.read_text())
            for path in root.rglob("*.py")
        }
        declared = {name: _declared(tree) for name, tree in trees.items()}
        for name, tree in trees.items():
            for node in ast.walk(tree):
                if isinstance(node, ast.ImportFrom) and node.module and declared.get(node.module) is not None:
                    with self.subTest(name, of=node.module):
                        self.assertLessEqual({alias.name for alias in node.names}, declared[node.module])

    def test_all_that_is_declared_is_documented(self) -> None:
        """Every public function of the core, but for plain arithmetic, says what it means."""
        for found in pkgutil.walk_packages(finesieve.core.__path__, "finesieve.core."):
            module = importlib.import_module(found.name)
            self.assertTrue(module.__doc__, found.name)


def _documented(thing: object) -> bool:
    return bool(thing.__doc__) and not (
        inspect.isclass(thing) and (thing.__doc__ or "").startswith(f"{thing.__name__}(")
    )


def _declared(tree: ast.Module) -> set[str] | None:
    for node in tree.body:
        if isinstance(node, ast.Assign) and isinstance(node.targets[0], ast.Name) and node.targets[0].id == "__all__":
            return set(ast.literal_eval(node.value))
    return None
