"""Which test modules a change touches: those that import what has changed, by however many steps."""

import subprocess
from pathlib import Path
from typing import Final

import grimp

__all__ = ["touched"]

_ROOT: Final = Path(__file__).parents[1]
_PAGES: Final = ("tests.web.", "tests.browser.", "tests.core.test_templates")
_SILENT: Final = ("docs/", "bench/", "README.md", "CHANGELOG.md", "CONTRIBUTING.md")
"""What no test reads, but for those of the documents."""
_DOCUMENTS: Final = "tests.core.test_docs"


def touched(modules: list[str], since: str) -> list[str]:
    """Those of the test modules that may come out otherwise than at the commit `since`.

    A template or a style touches the pages. What is neither that nor imported, such as a migration or a program that is
    run apart, touches all.
    """
    found: set[str] = set()
    graph = grimp.build_graph("finesieve", "tests")
    for path in _changed(since):
        if path.startswith(_SILENT) and path.endswith((".md", ".png", ".py")):
            found.add(_DOCUMENTS)
        elif path.startswith("src/finesieve/") and path.endswith((".html", ".css", ".js")):
            found.update(name for name in modules if name.startswith(_PAGES))
        else:
            module = path.removeprefix("src/").removesuffix(".py").replace("/", ".").removesuffix(".__init__")
            if not path.endswith(".py") or module not in graph.modules:
                return modules
            importing = graph.find_downstream_modules(module)
            if not importing and module not in modules:
                return modules
            found |= {module, *importing}
    return [name for name in modules if name in found]


def _changed(since: str) -> list[str]:
    """The paths that differ from a commit, new ones among them."""
    different = ["git", "diff", "--name-only", since]
    unknown = ["git", "ls-files", "--others", "--exclude-standard"]
    texts = [
        subprocess.run(command, cwd=_ROOT, capture_output=True, text=True, check=True).stdout
        for command in (different, unknown)
    ]
    return [line for text in texts for line in text.splitlines()]
