"""The documents are held against the code."""

import re
import tomllib
import unittest
from pathlib import Path

import finesieve
from finesieve.core.fields.about import ABOUTS
from finesieve.core.fields.families.data import MEDIA
from finesieve.core.fields.groups import GROUP_SETTINGS, GroupSettings
from finesieve.core.fields.keys import RESERVED
from finesieve.core.fields.settings import SETTINGS, FieldSettings
from finesieve.core.fields.types import TYPES
from finesieve.core.language.functions import FUNCTIONS
from finesieve.core.language.problems import CATALOGUE
from finesieve.core.language.reference import OPERATORS, reference_page
from finesieve.core.reasoning.findings import FINDINGS
from finesieve.core.setup.schema import KEYWORDS
from finesieve.core.values import KINDS
from finesieve.settings import Settings
from tests.support.fields import checked

ROOT = Path(__file__).parents[2]


def read(name: str) -> str:
    return (ROOT / name).read_text()


class Documents(unittest.TestCase):
    def test_the_language_page_names_everything(self) -> None:
        """Every function with its signature, every problem, every reserved word, every type of `eval`."""
        page = read("docs/language.md")
        for function in FUNCTIONS.values():
            for signature in function.signature.split(" · "):
                self.assertIn(f"`{signature}`", page)
            self.assertIn(f"| {function.help} |", page)
        for code in CATALOGUE:
            self.assertIn(f"`{code}`", page)
        self.assertEqual(read("docs/language-reference.md"), reference_page(), "run: finesieve reference")
        for operator in OPERATORS:
            for example in (operator.example, *(function.example for function in FUNCTIONS.values())):
                self.assertEqual([one.code for one in checked(example).problems if one.code == "syntax"], [], example)
        for word in (*RESERVED, *KINDS):
            self.assertRegex(page, rf"\b{word}\b")

    def test_the_define_page_names_everything(self) -> None:
        """Every type, setting, group setting, about, finding and keyword of the file."""
        page = read("docs/define.md")
        for name in (*TYPES, *SETTINGS, *GROUP_SETTINGS, *ABOUTS, *FINDINGS, *KEYWORDS, *MEDIA):
            self.assertRegex(page, rf"`{re.escape(name)}[`:]", name)
        for words in (*(one.label for one in TYPES.values()), *(one.label for one in SETTINGS.values())):
            self.assertIn(words, page)
        self.assertEqual(set(FieldSettings.model_fields) - {"renamed", "called"}, set(SETTINGS))
        self.assertEqual(set(GroupSettings.model_fields), set(GROUP_SETTINGS))

    def test_every_package_has_its_reason(self) -> None:
        """No dependency without a line that says why."""
        page = read("docs/dependencies.md")
        project = tomllib.loads(read("pyproject.toml"))["project"]
        for requirement in [*project["dependencies"], *project["optional-dependencies"]["dev"]]:
            name = re.split(r"[\[><=]", requirement)[0]
            self.assertIn(name, page)
        for package in re.findall(r'"(?:@[^"/]+/)?([a-z-]+)(?:\.org)?": "\d', read("frontend/package.json")):
            self.assertIn(
                {"csp": "alpine", "cli": "tailwind", "tailwindcss": "tailwind"}.get(
                    package, package.split("-")[0].removesuffix("js")
                ),
                page.lower(),
            )

    def test_every_setting_and_command_is_named(self) -> None:
        architecture, readme = read("docs/architecture.md"), read("README.md")
        for name in Settings.model_fields:
            self.assertIn(f"FINESIEVE_{name.upper()}", architecture)
        for command in re.findall(
            r'@(?:schema_)?cli\.command\("?([a-z-]*)"?\)\ndef (\w+)', read("src/finesieve/cli.py")
        ):
            name = command[0] or command[1]
            self.assertIn(
                "scripts/demo"
                if name == "demo"
                else f"finesieve {name}"
                if f"finesieve {name}" in readme
                else f"finesieve schema {name}",
                readme,
            )

    def test_every_script_is_named(self) -> None:
        readme = read("README.md")
        for script in (ROOT / "scripts").iterdir():
            if not script.suffix and script.is_file():
                self.assertIn(f"scripts/{script.name}", readme)

    def test_pictures_are_linked_and_there(self) -> None:
        """The README shows every picture kept, and no picture that is not."""
        shown = set(re.findall(r"docs/screenshots/([\w-]+\.png)", read("README.md")))
        kept = {path.name for path in (ROOT / "docs/screenshots").glob("*.png")}
        self.assertEqual(shown, kept)
        self.assertLess(len(kept), 20)


class Recipes(unittest.TestCase):
    """What CONTRIBUTING says a new thing touches is all that one there is touches."""

    SAMPLES = (
        ("A field type.", r"\bcolour\b", "", 4),
        ("A word before a point", r'"page"', r"core/|store/", 4),
        ("A destination of forms.", r'"decision"', r"services/|core/", 1),
        ("A page.", r"tags\.html|\"/tags\"|\"tags\", \"Tags\", str", "office/", 3),
        ("A function of the language.", r"\bclamp\b", "", 2),
        ("A check.", r'LengthCheck|kind: Literal\["length"\]|"length": |\{"length"|"length",|kind == "length"', "core/(?!language)|services/|office/|web/", 5),
    )  # fmt: skip

    def test_files(self) -> None:
        root = Path(finesieve.__file__).parent
        text = (root.parents[1] / "CONTRIBUTING.md").read_text()
        for title, pattern, within, most in self.SAMPLES:
            paragraph = re.search(rf"\*\*{re.escape(title)}.*?(?=\n\n)", text, re.S)
            assert paragraph, title
            listed = paragraph[0].partition("Files")[2].partition("Files of that")[0]
            named = {path for path in re.findall(r"`([\w/]+\.(?:py|html))`", listed)}
            touched = {
                path.relative_to(root).as_posix()
                for path in root.rglob("*")
                if path.suffix in (".py", ".html") and not {"migrations", "demo"} & set(path.parts)
                and re.match(within, path.relative_to(root).as_posix()) and re.search(pattern, path.read_text())
            }  # fmt: skip
            self.assertTrue(touched, title)
            self.assertEqual(touched - named, set(), title)
            self.assertEqual([path for path in named if not (root / path).exists()], [], title)
            self.assertLessEqual(len(named), most, title)
