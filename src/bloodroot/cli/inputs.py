"""What a command works with: the policy, the settings, and the callers that its words name."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from .output import UsageError

if TYPE_CHECKING:
    from collections.abc import Iterable

    from ..comparison.changes import Side
    from ..core.binding import Route
    from ..core.caller import Caller
    from ..core.matrix import Matrix
    from ..core.policy import Policy
    from ..language.tree import Document
    from ..review.tried import Columns
    from ..settings import Settings
    from .options import ProjectFiles


NO_SETTINGS = "there is no bloodroot.toml here or further up; write it, or name one with --settings FILE"


class LoadedProject(NamedTuple):
    """What a command works with.

    Attributes:
        policy: the policy.
        tree: its tree.
        settings: the settings; None where there are none.
    """

    policy: Policy
    tree: Document
    settings: Settings | None

    @property
    def needed_settings(self) -> Settings:
        """The settings, of a command that cannot do without.

        Raises:
            UsageError: there are none.
        """
        return needed(self.settings)


def needed(settings: Settings | None) -> Settings:
    """The settings, of a command that cannot do without.

    Raises:
        UsageError: there are none.
    """
    if settings is None:
        raise UsageError(NO_SETTINGS)
    return settings


def settings_of(file: Path | None) -> Settings | None:
    """The settings that are named, else those here or further up; None where there are none.

    Raises:
        SettingsError: the settings cannot be used.
    """
    from ..settings import find_settings, read_settings

    file = file or find_settings()
    return read_settings(file) if file is not None else None


def bound_project(files: ProjectFiles, *, personas: bool = True) -> LoadedProject:
    """The policy and the settings that a command works with; the policy with what the application's routes say.

    Args:
        files: the files that options name.
        personas: whether the policy has to know what the personas hold.

    Raises:
        PolicyError: the policy cannot be used.
        SettingsError: the settings cannot be used.
    """
    project = project_as_written(files, personas=personas)
    return project._replace(policy=_bound(project.policy, project.settings))


def _bound(rules: Policy, project: Settings | None) -> Policy:
    if project is None:
        check_bound(rules)
        return rules
    from ..survey.applications import bound

    return bound(rules, project)


def check_bound(rules: Policy) -> None:
    """See that no line of a policy names an action that was not found.

    Raises:
        UsageError: one does.
    """
    for action in rules.unbound:
        raise UsageError(
            f"{action.place.at} names the action {action.name}, and there is no application to find it in; "
            'write app = "module:name" in bloodroot.toml'
        )


def policy_if_any(files: ProjectFiles, settings: Settings | None, sources: list[str]) -> Policy | None:
    """The policy, bound where it has to be; None where a project that only begins has none.

    Args:
        files: the files that options name.
        settings: the settings; None where there are none.
        sources: what is surveyed; an application among it is what lines of actions are bound to.

    Raises:
        PolicyError: the policy cannot be used.
        SettingsError: the settings cannot be used.
    """
    if files.policy is None and not usual_policy(settings).exists():
        return None
    rules = project_as_written(files, personas=False).policy
    if not rules.unbound:
        return rules
    from ..survey.applications import bound_to_any

    own = [settings.app] if settings is not None and settings.app else []
    return bound_to_any(rules, [*sources, *own], settings)


class ToCheck(NamedTuple):
    """What is checked.

    Attributes:
        policy: the policy.
        tree: its tree.
        settings: the settings; None where there are none.
        sources: the sources of endpoints.
        folder: the folder that these are in.
    """

    policy: Policy
    tree: Document
    settings: Settings | None
    sources: list[str]
    folder: Path


def project_to_check(files: ProjectFiles, sources: list[str]) -> ToCheck:
    """What is checked: the policy, its tree, the settings, the sources of endpoints, and the folder these are in.

    Raises:
        PolicyError: the policy cannot be used.
        SettingsError: the settings cannot be used.
        UsageError: there is no policy.
    """
    project = project_as_written(files)
    settings = project.settings
    if not sources and (settings is None or not (settings.app or settings.openapi)):
        return ToCheck(*project, [], Path.cwd())
    return ToCheck(*project, *sources_of(sources, settings))


class Sources(NamedTuple):
    """What is surveyed.

    Attributes:
        names: the sources of endpoints.
        folder: the folder that they are looked for in.
    """

    names: list[str]
    folder: Path


def sources_of(named: list[str], settings: Settings | None) -> Sources:
    """The sources of a survey: those that were named, else the settings' own.

    Raises:
        UsageError: there are none.
    """
    if named:
        return Sources(named, Path.cwd())
    own = [*([settings.app] if settings and settings.app else [])]
    own += [str(settings.openapi)] if settings is not None and settings.openapi is not None else []
    if not own or settings is None:
        raise UsageError(
            "there is nothing to survey; name a source, such as module:app or openapi.json, or write "
            'app = "module:name" in bloodroot.toml'
        )
    return Sources(own, settings.folder)


def project_as_written(files: ProjectFiles, *, personas: bool = True) -> LoadedProject:
    """The policy and the settings of a command that needs to know neither routes nor the application.

    Args:
        files: the files that options name.
        personas: whether the command has to do with personas, so that what they hold is held against the policy.

    Raises:
        PolicyError: the policy cannot be used.
        SettingsError: the settings cannot be used.
        UsageError: there is no such policy.
    """
    from ..settings.policy_names import check_names

    settings = settings_of(files.settings)
    rules, document = read_policy(policy_file(files, settings), settings.root if settings is not None else None)
    if settings is not None and personas:
        check_names(settings, rules)
    return LoadedProject(rules, document, settings)


def usual_policy(settings: Settings | None) -> Path:
    """The policy that the settings name, else ``access.bloodroot``."""
    return shown(settings.policy) if settings is not None else Path("access.bloodroot")


def policy_file(files: ProjectFiles, settings: Settings | None) -> Path:
    """The policy file that is worked with.

    Args:
        files: the files that options name.
        settings: the settings; None where there are none.

    Raises:
        UsageError: there is no such policy.
    """
    chosen = files.policy or usual_policy(settings)
    if not chosen.exists() and not _in_a_revision(chosen):
        raise UsageError(_no_policy(chosen, settings if files.policy is None else None))
    return chosen


def _in_a_revision(name: Path) -> bool:
    """Whether a name is that of a file in a revision, as in ``main:access.bloodroot``."""
    from ..revisions import RevisionError, revision

    before, colon, _ = str(name).partition(":")
    try:
        return bool(colon) and revision(before, Path.cwd()) is not None
    except RevisionError:
        return False


def read_policy(file: Path, root: Path | None = None) -> tuple[Policy, Document]:
    """A policy and its tree, from a file or, as in ``main:access.bloodroot``, from a revision.

    Args:
        file: the file.
        root: the folder that what it includes must be in, or None for its repository.

    Raises:
        PolicyError: the policy cannot be used.
    """
    from ..files import load_from, load_with_tree
    from ..revisions import place_in, revision

    if file.exists() or not _in_a_revision(file):
        return load_with_tree(file, root)
    name, _, path = str(file).partition(":")
    revision_of_name = revision(name, Path.cwd())
    assert revision_of_name is not None
    return load_from(revision_of_name, place_in(revision_of_name, path, Path.cwd()))


def two_policies(old: str, new: str | None, files: ProjectFiles) -> tuple[Side, Side]:
    """The two policies that are compared.

    Args:
        old: a file, a revision, or a file in a revision.
        new: the same; None for the policy in the work tree.
        files: the files that options name; the policy is the one that is looked for in revisions.

    Raises:
        PolicyError: a policy cannot be used.
        SettingsError: the settings cannot be used.
        UsageError: there is no such file or revision.
        RevisionError: a revision cannot be read.
    """
    from ..comparison.binding_both import side

    project = settings_of(files.settings)
    usual = files.policy or usual_policy(project)
    if new is None and not usual.exists():
        raise UsageError(_no_policy(usual, project if files.policy is None else None))
    names = [_name_of_policy(name, usual) for name in (old, new)]
    policies = [read_policy(name, project.root if project is not None else None)[0] for name in names]
    routes = _routes_if_needed(policies, project)
    one, other = (side(read, str(name), routes) for read, name in zip(policies, names, strict=True))
    return one, other


def _name_of_policy(name: str | None, usual: Path) -> Path:
    """A policy as `read_policy` takes it: of a revision alone the usual file is meant."""
    from ..revisions import RevisionError, revision, top_of

    if name is None:
        return usual
    # Not a folder: a branch may well be named like one.
    if (Path(name).exists() and not Path(name).is_dir()) or _in_a_revision(Path(name)):
        return Path(name)
    here = Path.cwd()
    try:
        revision_of_name = revision(name, here)
    except RevisionError as error:
        raise UsageError(f'"{name}" is no file, and {error}') from error
    if revision_of_name is None:
        raise UsageError(f'"{name}" is neither a file nor a revision of the git repository in {top_of(here)}')
    try:
        inside = usual.resolve().relative_to(revision_of_name.top.resolve())
    except ValueError as error:
        raise UsageError(
            f"{usual} is outside of the git repository in {revision_of_name.top}; name two files instead"
        ) from error
    return Path(f"{name}:{inside.as_posix()}")


def _routes_if_needed(policies: Iterable[Policy], settings: Settings | None) -> list[Route] | None:
    """The routes of the application, where a policy names actions and there is an application."""
    if settings is None or not settings.app or not any(policy.unbound for policy in policies):
        return None
    from ..frameworks import routes_of
    from ..survey.applications import imported

    return routes_of(imported(settings.app, settings.folder, "app"))


def _no_policy(policy: Path, settings: Settings | None) -> str:
    """What to say where there is no such policy: who names it, files of nearly this name, and what to do."""
    from ..language.problems import suggestion

    where = f"{policy}, which {shown(settings.file)} names as the policy" if settings is not None else str(policy)
    folder = policy.parent
    near = [path.stem for path in sorted(folder.glob("*.bloodroot"))] if folder.is_dir() else []
    guess = suggestion(policy.stem, near)
    if guess:
        return f'there is no file {where}{guess[:-2]}.bloodroot"?'
    guess = f"; there is {', '.join(f'{name}.bloodroot' for name in near[:5])}" if near else ""
    way_out = "write one, or name one with --policy FILE"
    if settings is not None:
        way_out = 'write it, or correct policy = "..." there'
    return f"there is no file {where}{guess}; {way_out}"


def with_members(settings: Settings | None, names: Iterable[str] | None = None) -> Settings | None:
    """The settings with those personas looked up that are members of the directory.

    Args:
        settings: the settings, or None where there are none.
        names: the personas that are needed; None for all.

    Raises:
        SettingsError: a member cannot be found.
    """
    if settings is None or all(persona.member is None for persona in settings.personas.values()):
        return settings
    from ..identity.personas import with_members

    return with_members(settings, names)


def callers_of_personas(settings: Settings | None) -> dict[str, Caller | None]:
    """The caller of each persona, those of the directory looked up; None for a signed-out one.

    Raises:
        UsageError: there are no personas.
        SettingsError: a member cannot be found.
    """
    if settings is None or not settings.personas:
        raise UsageError("there are no personas; write [personas.NAME] in bloodroot.toml")
    project = with_members(settings) or settings
    return {name: persona.caller for name, persona in project.personas.items()}


def columns_of_decisions(policy: Policy, matrix: Matrix, settings: Settings | None, *, personas: bool) -> Columns:
    """In which columns of a matrix a decision that was written down counts.

    Args:
        policy: the policy.
        matrix: its matrix.
        settings: the settings, or None where there are none.
        personas: whether the matrix has a column for each persona.
    """
    from ..review.tried import columns_of_callers, columns_of_roles

    has_personas = settings is not None and settings.personas
    callers = callers_of_personas(settings) if has_personas else {}
    return columns_of_callers(callers) if personas else columns_of_roles(policy, matrix, callers)


def with_scopes(caller: Caller, text: str, policy: Policy, settings: Settings | None) -> Caller:
    """A caller whose token was made for some scopes alone, read as the settings say.

    Raises:
        UsageError: a scope gives nothing that the settings or the policy know.
    """
    from dataclasses import replace

    from ..core.permissions import knows
    from ..language.problems import suggestion
    from ..settings import given_by_scopes, names_of_scopes

    claims = names_of_scopes(settings)
    names = [name.strip() for name in text.split(",") if name.strip()]
    for name in names:
        if claims.scope_names is not None and name not in claims.scope_names:
            known = suggestion(name, claims.scope_names) or f"; known are {', '.join(claims.scope_names)}"
            raise UsageError(f'--scope: [identity] scope_names has no scope "{name}"{known}')
        if claims.scope_names is None and not knows(policy.resolver, name):
            raise UsageError(f'--scope: the policy knows no permission "{name}"{suggestion(name, policy.permissions)}')
    scopes, roles = given_by_scopes(names, claims)
    return replace(caller, scopes=scopes, scoped_roles=roles)


def caller_named(who: str, policy: Policy, settings: Settings | None) -> Caller | None:
    """The caller that a string means: a persona, roles, or a persona and roles that it holds as well.

    Names have commas between them. A group is ``group "staff"``. A role in a thing is ``editor in studio 7``; without
    an identifier it is held in whichever record is asked about.

    Raises:
        UsageError: one of the names is neither, or two of them are personas.
        SettingsError: a persona is a member whom the directory does not have.
    """
    from dataclasses import replace

    from ..core.caller import group_of_kind, imagined

    which = who
    who, held = _roles_in(who, policy)
    if held and not who:
        return replace(imagined(), roles_in=held)
    if held:
        caller = caller_named(who, policy, settings)
        if caller is None or caller.roles_in:
            raise UsageError(f'"{which}" is more than one caller, or one that says itself what it holds where')
        return replace(caller, roles_in=held)
    names = [name.strip() for name in who.split(",")]
    personas = settings.personas if settings is not None else {}
    # Personas are often called after their roles: beside others such a name is a role.
    chosen = [name for name in names if name in personas and (len(names) == 1 or name not in policy.roles.bit)]
    roles = [name for name in names if name not in chosen and name not in ("signed-in", "signed-out")]
    groups = {group for name in roles if (group := group_of_kind(name)) in policy.roles.groups}
    _check_roles([name for name in roles if group_of_kind(name) not in groups], policy, personas)
    if len(chosen) > 1 or ("signed-out" in names and len(names) > 1):
        raise UsageError(f'"{who}" is more than one caller; name one persona, and roles that it should hold as well')
    if names == ["signed-out"]:
        return None
    if not chosen:
        # Of a role alone nothing else is known: what requires an attribute stays open.
        return imagined(*roles)
    roles = [name for name in roles if group_of_kind(name) not in groups]
    project = with_members(settings, chosen)
    assert project is not None
    caller = project.personas[chosen[0]].caller
    if caller is None:
        if roles or groups:
            raise UsageError(f'persona "{chosen[0]}" is not signed in, and can hold no role')
        return None
    return replace(caller, roles={*caller.roles, *roles}, groups={*caller.groups, *groups})


def _roles_in(who: str, policy: Policy) -> tuple[str, dict[str, dict[str, set[str]]]]:
    """The names that are left of a string without its roles in particular records, and these."""
    rest = []
    held: dict[str, dict[str, set[str]]] = {}
    for name in who.split(","):
        words = name.split()
        if len(words) != 4 or words[1] != "in":
            rest.append(name)
            continue
        role, _, thing, identifier = words
        _check_roles([f"{role} in {thing}"], policy, ())
        held.setdefault(thing, {}).setdefault(identifier, set()).add(role)
    return ",".join(rest), held


def _check_roles(names: list[str], policy: Policy, personas: Iterable[str]) -> None:
    from ..language.problems import suggestion

    for name in names:
        if name not in policy.roles.bit_of:
            thing = policy.roles.in_thing.get(name)
            guess = suggestion(name, [*policy.roles.bit_of, *personas, "signed-out", "signed-in"])
            if thing is not None:
                guess = f'; it is held in a {thing}: write "{name} in {thing} 7", or "{name} in {thing}" for any'
            what = "persona or role" if personas else "role"
            raise UsageError(f'unknown {what} "{name}"{guess or "; known are " + ", ".join(policy.roles.bit_of)}')


def check_request(method: str, path: str, policy: Policy) -> None:
    """See that a method and a path are what they look like.

    Raises:
        UsageError: they are not.
    """
    from ..core.methods import COMMON
    from ..core.paths import is_method
    from ..language.problems import suggestion

    if not path.startswith("/"):
        rest = path.split("://", 1)[-1]
        guess = f"/{rest.partition('/')[2]}" if "://" in path else f"/{path}"
        raise UsageError(f'"{path}" is no path: a path begins with /, as in {guess}')
    methods = {*COMMON, *(named for line in policy.endpoints for named in line.methods)}
    guess = "" if method in methods else suggestion(method, methods)
    if guess or not is_method(method):
        raise UsageError(f'"{method}" is no method{guess or "; a method is a word such as GET or POST"}')


def shown(path: Path) -> Path:
    """A path as short as it can be written from here."""
    try:
        return path.resolve().relative_to(Path.cwd().resolve())
    except ValueError:
        return path
