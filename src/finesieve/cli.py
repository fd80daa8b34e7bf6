"""The command `finesieve`."""

import json
import os
import secrets
import signal
import socket
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager, nullcontext
from datetime import UTC, datetime
from pathlib import Path
from types import FrameType
from typing import Annotated, Any, Final, Literal, NoReturn
from urllib.error import URLError
from urllib.request import urlopen

import typer

from finesieve.core.errors import FineSieveError
from finesieve.localdb import LocalPostgres, MissingPostgres
from finesieve.places import files_directory, var_directory

__all__ = ["main"]

cli = typer.Typer(
    pretty_exceptions_enable=False,
    add_completion=False,
    no_args_is_help=True,
    help="Fine Sieve: define, collect, compute, sift.",
)


def main() -> None:
    """Run the command."""
    cli()


def _misuse(message: str) -> NoReturn:
    typer.echo(message, err=True)
    raise typer.Exit(2)


@cli.command()
def reference() -> None:
    """Print the reference of the expression language as Markdown."""
    from finesieve.core.language.reference import reference_page

    typer.echo(reference_page(), nl=False)


@cli.command("eval")
def evaluate_expression(
    expression: Annotated[str, typer.Argument(help="The expression, after --")] = "",
    fields: Annotated[Path | None, typer.Option(help="JSON: field keys to {type, options}")] = None,
    values: Annotated[Path | None, typer.Option(help="JSON: field keys to values")] = None,
    cases: Annotated[Path | None, typer.Option(help="JSON Lines: a case a line, in place of the above")] = None,
    now: Annotated[str, typer.Option(help="The moment, ISO; the present by default")] = "",
    zone: Annotated[str, typer.Option(help="The time zone")] = "UTC",
    backend: Annotated[Literal["python", "sql"], typer.Option(help="What works it out")] = "python",
    explain: Annotated[bool, typer.Option(help="The value of every part, and which decided; in Python")] = False,
) -> None:
    """Work out an expression and print one JSON object, or many of a file and print one a line."""
    if explain and (backend == "sql" or cases):
        _misuse("What is explained is one expression worked out in Python; leave --backend sql and --cases out.")
    if bool(cases) == bool(fields and values) or (cases and expression):
        _misuse("Give --fields, --values and an expression, or --cases alone.")
    from finesieve import evaluate
    from finesieve.core.language.program import Moment

    try:
        moment = evaluate.read_moment(now) if now else datetime.now(UTC)
        place = evaluate.read_zone(zone)
        given = evaluate.read_given(fields, values) if fields and values else None
        lines = cases.read_text().splitlines() if cases else []
    except (ValueError, OSError) as problem:
        _misuse(str(problem))
    try:
        with evaluate.database() if backend == "sql" else nullcontext() as engine:
            if given is None:
                _print_cases(evaluate.run_cases((line for line in lines if line.strip()), moment, place, engine))
            case = evaluate.Case(expression, given, Moment(moment, place))
            result = evaluate.by_sql(case, engine) if engine else evaluate.by_python(case, explained=explain)
    except (MissingPostgres, FineSieveError) as problem:
        _misuse(str(problem))
    typer.echo(json.dumps(result, ensure_ascii=False))
    raise typer.Exit(1 if "problems" in result else 0)


def _print_cases(results: Iterator[dict[str, Any]]) -> NoReturn:
    wrong = False
    for result in results:
        wrong = wrong or "error" in result
        typer.echo(json.dumps(result, ensure_ascii=False))
    raise typer.Exit(2 if wrong else 0)


@cli.command()
def outcome(
    setup: Annotated[Path, typer.Option(help="JSON Schema: the definition, as it is exported")],
    form: Annotated[str, typer.Option(help="The form, by its part of the address")],
    situation: Annotated[Path | None, typer.Option(help="JSON: who fills it in, when, and the answers")] = None,
    cases: Annotated[Path | None, typer.Option(help="JSON Lines: a situation a line, in place of the above")] = None,
    now: Annotated[str, typer.Option(help="The moment of situations that name none; the present by default")] = "",
) -> None:
    """Try a form by files alone: print what shows, what is wrong, what it costs and what would be stored, as JSON."""
    from finesieve import evaluate
    from finesieve.core.setup.schema import read_schema
    from finesieve.core.setup.trial import FormTrial

    if (situation is None) == (cases is None):
        _misuse("Give --situation or --cases.")
    text = _text_of(cases or situation or setup)
    try:
        trial = FormTrial(read_schema(_text_of(setup)), form)
        moment = evaluate.read_moment(now) if now else datetime.now(UTC)
    except (FineSieveError, ValueError) as problem:
        _misuse(str(problem))
    if cases is not None:
        _print_cases(trial.results((line for line in text.splitlines() if line.strip()), moment))
    result = next(trial.results([text], moment))
    if "error" in result:
        _misuse(str(result["error"]))
    typer.echo(json.dumps(result, ensure_ascii=False))


@cli.command()
def talk(
    setup: Annotated[Path, typer.Option(help="JSON Schema: the definition, as it is exported")],
    script: Annotated[str, typer.Option(help="The chat script, by its part of the address")],
    replies: Annotated[Path, typer.Option(help="What is replied, a line each")],
    person: Annotated[
        Path | None, typer.Option(help="JSON: what is stored of the person, who is confirmed then")
    ] = None,
    channel: Annotated[Literal["web", "text"], typer.Option(help="Where it is held")] = "web",
    now: Annotated[str, typer.Option(help="The moment, ISO; the present by default")] = "",
    language: Annotated[str, typer.Option(help="The language; that of the script by default")] = "",
    zone: Annotated[str, typer.Option(help="The time zone")] = "UTC",
) -> None:
    """Hold a conversation by files alone: print what is said after each reply, a JSON object a line."""
    from finesieve import evaluate
    from finesieve.core.setup.schema import read_schema
    from finesieve.core.setup.talk import Talk

    try:
        moment = evaluate.read_moment(now) if now else datetime.now(UTC)
        evaluate.read_zone(zone)
        known = json.loads(_text_of(person)) if person is not None else None
        held = Talk(
            read_schema(_text_of(setup)), script, moment, person=known, channel=channel, language=language, zone=zone
        )
        for said in held.results(_text_of(replies).splitlines()):
            typer.echo(json.dumps(said, ensure_ascii=False))
    except (FineSieveError, ValueError) as problem:
        _misuse(str(problem))


@cli.command("read")
def read_text(
    kind: Annotated[str, typer.Argument(metavar="TYPE", help="The type of a field, such as date, money, phone")],
    text: Annotated[str, typer.Argument(help="What somebody types")],
    language: Annotated[str, typer.Option(help="The language it is typed in, such as en_GB or de")] = "",
    country: Annotated[str, typer.Option(help="Where: an ISO 3166 code such as GB")] = "",
    now: Annotated[str, typer.Option(help="The moment, ISO; the present by default")] = "",
    zone: Annotated[str, typer.Option(help="The time zone")] = "UTC",
) -> None:
    """Read a text as a form would: print the value as JSON, or what would be asked instead (and exit with 1)."""
    from finesieve import evaluate

    try:
        moment = evaluate.read_moment(now) if now else datetime.now(UTC)
        result = evaluate.read_as(kind, text, language, country, moment, evaluate.read_zone(zone))
    except ValueError as problem:
        _misuse(str(problem))
    typer.echo(json.dumps(result, ensure_ascii=False))
    raise typer.Exit(1 if "problem" in result else 0)


@cli.command()
def migrate() -> None:
    """Bring the database of FINESIEVE_DATABASE_URL up to date."""
    from finesieve.store.connection.database import connect
    from finesieve.store.migrate import migrate as run

    engine = connect(_database_url())
    run(engine)
    engine.dispose()


def _database_url() -> str:
    from finesieve.settings import Settings

    url = Settings().database_url
    if not url:
        _misuse("FINESIEVE_DATABASE_URL is not set; it names the PostgreSQL database.")
    return url


@cli.command()
def serve(port: int = 8765, host: str = "127.0.0.1") -> None:
    """Serve the pages on FINESIEVE_DATABASE_URL."""
    import uvicorn

    _database_url()
    from finesieve.settings import Settings

    if not Settings().secret:
        _misuse("FINESIEVE_SECRET is not set; it signs what is handed to browsers, and is the same for all processes.")
    # Whose X-Forwarded-For is believed is a setting of ours.
    uvicorn.run(
        "finesieve.app:create_server",
        factory=True,
        host=host,
        port=port,
        log_level="warning",
        server_header=False,
        proxy_headers=False,
    )


@cli.command()
def worker() -> None:
    """Run background tasks on FINESIEVE_DATABASE_URL."""
    from finesieve.jobs.worker import keep_working
    from finesieve.store.connection.database import Store, connect
    from finesieve.store.files.keeping import FileStore

    url = _database_url()
    engine = connect(url, pool_size=2)
    keep_working(url, Store(engine, FileStore(files_directory())))
    engine.dispose()


@cli.command("add-staff")
def add_staff(email: str, name: str) -> None:
    """Add somebody who may sign in; the password is read from standard input."""
    from finesieve.core.errors import Conflict
    from finesieve.services.accounts.staff import StaffAccounts
    from finesieve.services.kernel.scope import utc_now
    from finesieve.store.connection.database import Store, connect

    password = typer.prompt("Password", hide_input=True) if sys.stdin.isatty() else sys.stdin.readline().strip()
    if len(password) < 8:
        _misuse("A password has at least 8 characters.")
    engine = connect(_database_url())
    try:
        StaffAccounts(Store(engine), utc_now).add_staff(email, name, password)
    except Conflict:
        _misuse(f"{email} is there already.")
    finally:
        engine.dispose()


schema_cli = typer.Typer(no_args_is_help=True, help="Definitions as JSON Schema files.")
cli.add_typer(schema_cli, name="schema")


@contextmanager
def _workspace(slug: str) -> Iterator[Any]:
    """A scope of the owner in a workspace of FINESIEVE_DATABASE_URL."""
    from sqlmodel import col, select

    from finesieve.services.kernel.scope import Scope
    from finesieve.store.connection.database import Store, connect
    from finesieve.store.tables import Workspace

    engine = connect(_database_url())
    store = Store(engine)
    try:
        with store.transaction() as session:
            workspace_id = session.exec(select(Workspace.id).where(col(Workspace.slug) == slug)).first()
        if workspace_id is None:
            _misuse(f"There is no workspace {slug}.")
        yield Scope(store, workspace_id, "the command line", "owner")
    finally:
        engine.dispose()


def _text_of(path: Path) -> str:
    try:
        return path.read_text()
    except (OSError, UnicodeDecodeError) as problem:
        _misuse(f"{path}: {problem}")


@schema_cli.command("export")
def schema_export(
    workspace: Annotated[str, typer.Argument(help="The workspace’s short name")],
    directory: Annotated[Path | None, typer.Option(help="One file a group goes here")] = None,
    values: Annotated[bool, typer.Option(help="House values too, as a starter set")] = False,
) -> None:
    """Print the whole definition as JSON Schema, or write one file a group."""
    from finesieve.services.define.groups import read_catalogue
    from finesieve.services.transfer.setups import export_setup

    with _workspace(workspace) as scope:
        if directory is None:
            typer.echo(export_setup(scope, values=values)[1], nl=False)
            return
        directory.mkdir(parents=True, exist_ok=True)
        for group in read_catalogue(scope).all_groups:
            name = f"{group.about.replace(':', '-')}-{group.id}.schema.json"
            (directory / name).write_text(export_setup(scope, group.id)[1])
            typer.echo(str(directory / name))


@schema_cli.command("import")
def schema_import(
    workspace: Annotated[str, typer.Argument(help="The workspace’s short name")],
    file: Annotated[Path, typer.Argument(help="The JSON Schema file")],
    apply: Annotated[bool, typer.Option(help="Load it; without this it is only tried")] = False,
    remove: Annotated[bool, typer.Option(help="Delete fields that are not in the file")] = False,
) -> None:
    """Try a file against a workspace and print the differences; load it with --apply. Exit 1 for conflicts."""
    from finesieve.core.errors import InvalidInput
    from finesieve.services.transfer.setups import load_setup, plan_setup

    text = _text_of(file)
    with _workspace(workspace) as scope:
        try:
            plan = plan_setup(scope, text)
            for one in plan.differences:
                typer.echo(f"{one.change:9} {one.what} {one.name}{': ' + one.why if one.why else ''}")
            if apply:
                typer.echo(json.dumps(load_setup(scope, text, remove=remove)))
        except InvalidInput as problem:
            typer.echo(str(problem), err=True)
            raise typer.Exit(1) from None
    raise typer.Exit(1 if plan.of("conflict") else 0)


@schema_cli.command("check")
def schema_check(
    file: Annotated[Path, typer.Argument(help="The JSON Schema file")],
    data: Annotated[Path | None, typer.Option(help="A JSON object of answers to validate")] = None,
    form: Annotated[str, typer.Option(help="The form that the answers were sent by")] = "",
) -> None:
    """Check that a file is a sound definition, and, with --data, that answers fit it. Exit 1 where not."""
    from jsonschema import Draft202012Validator

    from finesieve.core.errors import InvalidInput
    from finesieve.core.setup.schema import read_schema

    text = _text_of(file)
    try:
        setup = read_schema(text)
        schema = json.loads(text)
        Draft202012Validator.check_schema(schema)
        if form:
            schema = {"$ref": f"#/$defs/form-{form}", "properties": schema["properties"], "$defs": schema["$defs"]}
        answers = json.loads(_text_of(data)) if data else {}
    except (InvalidInput, ValueError, KeyError) as problem:
        typer.echo(str(problem), err=True)
        raise typer.Exit(1) from None
    problems = list(Draft202012Validator(schema).iter_errors(answers)) if data else []
    for one in problems:
        typer.echo(f"{'.'.join(map(str, one.absolute_path)) or 'the whole'}: {one.message}")
    if not problems:
        typer.echo(f"Sound: {len(setup.fields)} fields.")
    raise typer.Exit(1 if problems else 0)


@cli.command()
def demo(
    port: Annotated[int, typer.Option(help="Where to serve the pages")] = 8765,
    reset: Annotated[bool, typer.Option(help="Start again: the demo's data is removed first")] = False,
    people: Annotated[int, typer.Option(min=2_000, max=5_000_000, help="How many people there are at least")] = 2_000,
) -> None:
    """Start everything with the demo house: database, server, worker. Ctrl-C stops it all."""
    if not _free(port):
        _misuse(f"Port {port} is taken, perhaps by another Fine Sieve. Choose another with --port.")
    var = var_directory()
    stopping = _Stopping()
    children: list[subprocess.Popen[bytes]] = []
    try:
        postgres = LocalPostgres(var / "postgres")
        loading = var / "demo-loading"
        if reset or loading.exists():
            # A mark left behind tells that loading was broken off; half a demo is no demo.
            postgres.remove()
            (var / "demo-ready").unlink(missing_ok=True)
        if people == _DEMO_PEOPLE and _is_ready(var):
            # Nothing is to be loaded: the server may load its modules while the database starts.
            postgres.claim_port()
            children.append(_child(postgres.url, var, "serve", "--port", str(port)))
        _say("Starting PostgreSQL on loopback …")
        postgres.start()
    except MissingPostgres as problem:
        _stop(children)
        _misuse(str(problem))
    try:
        if not children:
            _load_demo(postgres.url, var, people)
            children.append(_child(postgres.url, var, "serve", "--port", str(port)))
        _await(children[0], port, stopping)
        children.append(_child(postgres.url, var, "worker"))
        while not stopping.asked and all(child.poll() is None for child in children):
            time.sleep(0.2)
        if not stopping.asked:
            raise typer.Exit(1)
    finally:
        _stop(children)
        postgres.stop()
        _say("Stopped.")


def _free(port: int) -> bool:
    """Whether a server could listen there."""
    with socket.socket() as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind(("127.0.0.1", port))
        except (OSError, OverflowError):
            return False
        return True


class _Stopping:
    """Whether somebody pressed Ctrl-C or asked to terminate."""

    def __init__(self) -> None:
        self.asked = False
        for which in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
            signal.signal(which, self._ask)

    def _ask(self, _signal: int, _frame: FrameType | None) -> None:
        self.asked = True


def _say(words: str) -> None:
    typer.echo(words)


_DEMO_PEOPLE: Final = 2_000


def _is_ready(var: Path) -> bool:
    """Whether the demo house was loaded, and the database brought up to the newest step, by an earlier start."""
    from finesieve.store.steps import newest_step

    ready = var / "demo-ready"
    return ready.exists() and ready.read_text() == newest_step()


def _load_demo(url: str, var: Path, people: int) -> None:
    from finesieve.demo.load import fill_demo, load_demo
    from finesieve.store.connection.database import Store, connect
    from finesieve.store.migrate import migrate as run
    from finesieve.store.steps import newest_step

    engine = connect(url, durable=False)
    run(engine)
    loading = var / "demo-loading"
    loading.touch()
    if load_demo(Store(engine), people=_DEMO_PEOPLE):
        _say(f"The demo house is loaded: {_DEMO_PEOPLE:,} made-up people.")
    loading.unlink()
    (var / "demo-ready").write_text(newest_step())
    added = fill_demo(Store(engine), people) if people > _DEMO_PEOPLE else 0
    if added:
        _say(f"{added:,} more people are in.")
    engine.dispose()


def _child(url: str, var: Path, *words: str) -> subprocess.Popen[bytes]:
    """Another process of ours, in a session of its own, so that Ctrl-C reaches us alone and we stop it in order."""
    environment = os.environ | {"FINESIEVE_DATABASE_URL": url, "FINESIEVE_DEMO": "1", "FINESIEVE_SECRET": _secret(var)}
    command = [sys.executable, "-m", "finesieve.cli", *words]
    return subprocess.Popen(command, env=environment, start_new_session=True)  # noqa: S603 - our own command


def _await(server: subprocess.Popen[bytes], port: int, stopping: "_Stopping") -> None:
    """Until the server answers, and say where it is."""
    address = f"http://127.0.0.1:{port}/"
    for _ in range(1_200):
        if stopping.asked or server.poll() is not None:
            break
        if _answers(f"{address}healthz"):
            _say(f"Fine Sieve is at {address}  (Ctrl-C stops it)")
            break
        time.sleep(0.1)
    if server.poll() is not None:
        _say("The server did not start; its reason stands above.")


def _secret(var: Path) -> str:
    path = var / "secret"
    if not path.exists():
        path.write_text(secrets.token_urlsafe(32))
        path.chmod(0o600)
    return path.read_text()


def _answers(address: str) -> bool:
    try:
        with urlopen(address, timeout=1) as answer:  # noqa: S310 - a loopback address of our own
            return bool(answer.status == 200)
    except (URLError, OSError):
        return False


def _stop(children: list[subprocess.Popen[Any]]) -> None:
    for child in children:
        if child.poll() is None:
            child.terminate()
    for child in children:
        try:
            child.wait(timeout=8)
        except subprocess.TimeoutExpired:
            child.kill()
            child.wait()


if __name__ == "__main__":
    main()
