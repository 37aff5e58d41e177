"""Who is calling: the sources of the settings in their order, and the directory for the present roles."""

from __future__ import annotations

import os
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

from ..core.caller import Caller, Unidentified
from ..core.paths import Template, read_path
from ..request import Request, request_of
from ..settings import Settings, SettingsError, SourceSettings, read_settings
from ..threads import Threads
from .fresh import Unknown
from .sources import BearerToken, Header, Session, Source, TokenSource
from .waiting import without_waiting

if TYPE_CHECKING:
    from .directory import Directory
    from .members import Member


# As many as ask a directory at the same time; loaders wait for others.
_MOST_LOOK_UPS = 8
_AGAIN = 60.0


@dataclass(frozen=True, slots=True)
class PlacedSource:
    """A source, the paths that it is for (None for all), and whether the directory is asked about its callers."""

    source: Source
    covers: Template | None = None
    looks_up: bool = True


class _Claimed(NamedTuple):
    """What a source says of a request.

    Attributes:
        caller: who sent it; None for a signed-out caller.
        by_token: whether a token says so.
        directory: what knows more of the caller, if anything does.
    """

    caller: Caller | None
    by_token: bool
    directory: Directory | None


class Identification:
    """Says who sent a request; made to be an application's ``identify``.

    Args:
        sources: the sources. For a path that some were made for, those alone are asked; elsewhere those made for all.
            The first that finds something decides.
        directory: where roles are looked up afresh, or None where what the sources say is enough.

    Attributes:
        takes_path: that it is to be given the path that is decided.
        vary: the headers that callers are identified by.
        again: after how many seconds a caller is to be identified again while a WebSocket or a stream is open.
    """

    takes_path = True

    def __init__(self, sources: list[PlacedSource], directory: Directory | None = None) -> None:
        self.vary = tuple(dict.fromkeys(name for source in sources for name in source.source.headers))
        self.again = _AGAIN if directory is None else max(1.0, directory.cached_for)
        self._threads, self._waiting = Threads(_MOST_LOOK_UPS), Threads(_MOST_LOOK_UPS)
        self._made_for_all = [source for source in sources if source.covers is None]
        self._made_for_paths = [source for source in sources if source.covers is not None]
        self.directory = directory

    def __call__(self, request: Any, path: str | None = None) -> Caller | None:
        """The caller of a request; None for a signed-out one. It may wait for the database.

        Args:
            request: any framework's own.
            path: the path by which sources are chosen, percent-encoded; None for that of the request. Enforcement
                gives the one that it decides on, as a part of an application may see another one.

        Raises:
            Unidentified: the credentials of the request are not accepted.
        """
        request = request_of(request)
        claimed, by_token, directory = self._first(self._sources_for(path or request.path), request)
        if claimed is None or directory is None:
            return claimed
        return _judged(directory, directory.member(claimed.id), claimed, by_token)

    async def asynchronous(self, request: Any, path: str | None = None) -> Caller | None:
        """The same without making an event loop wait: what is not remembered is asked for in a thread."""
        request = request_of(request)
        sources = self._sources_for(path or request.path)
        if any(placed.source.waits(request) for placed in _taking(sources, request)):
            claimed, by_token, directory = await self._waiting.run(self._first, sources, request)
        else:
            # That nothing has to be asked for may have changed since; then the next request waits, in a thread.
            with without_waiting():
                claimed, by_token, directory = self._first(sources, request)
        if claimed is None or directory is None:
            return claimed
        member = directory.remembered(claimed.id)
        if isinstance(member, Unknown):
            member = await self._threads.run(directory.member, claimed.id)
        return _judged(directory, member, claimed, by_token)

    def by_token(self, request: Any, path: str | None = None) -> bool:
        """Whether callers are identified by a token where a request asks, and by nothing else."""
        sources = [source.source for source in self._sources_for(path or request_of(request).path)]
        return bool(sources) and all(isinstance(source, TokenSource) and source.by_header for source in sources)

    def check_for_wsgi(self) -> None:
        """See that trusted headers can be distinguished from others under WSGI.

        Raises:
            SettingsError: they cannot.
        """
        for source in (*self._made_for_all, *self._made_for_paths):
            check = getattr(source.source, "check_for_wsgi", None)
            if check is not None:
                check()

    def challenge(self, request: Any) -> str | None:
        """What to come back with where names and passwords are taken, and no tokens; None for a token, as usual."""
        sources = [placed.source for placed in self._sources_for(request_of(request).path)]
        takes_tokens = any(isinstance(source, TokenSource) and source.by_header for source in sources)
        asks = any(source.asks_for_password for source in sources if hasattr(source, "asks_for_password"))
        return 'Basic realm="sign in", charset="UTF-8"' if asks and not takes_tokens else None

    def _first(self, sources: list[PlacedSource], request: Request) -> _Claimed:
        """Who the first source that finds something says sent a request; whether a token says so; and what knows more.

        Raises:
            Unidentified: that source does not accept it, or a token is for none of them.
        """
        for placed in _taking(sources, request):
            source = placed.source
            reading = source.read(request)
            if reading is not None:
                by_token = isinstance(source, TokenSource) and source.by_header
                return _Claimed(reading.caller, by_token, self.directory if placed.looks_up else None)
        return _Claimed(None, False, None)

    def _sources_for(self, path: str) -> list[PlacedSource]:
        segments = read_path(path) if self._made_for_paths else None
        if segments is None:
            return self._made_for_all
        sources = [made for made in self._made_for_paths if made.covers is not None and made.covers.covers(segments)]
        return sources or self._made_for_all


def _taking(sources: list[PlacedSource], request: Request) -> Iterator[PlacedSource]:
    """The sources that may read a request: where several take tokens, the one that its token is for.

    Raises:
        Unidentified: a token is for none of them.
    """
    tokens = [placed.source for placed in sources if isinstance(placed.source, TokenSource)]
    for placed in sources:
        if not isinstance(placed.source, TokenSource) or _is_taken(request, placed.source, tokens):
            yield placed


def _is_taken(request: Request, source: TokenSource, others: Sequence[TokenSource]) -> bool:
    """Whether the token of a request, if it has one, is for a source and not for another one.

    Raises:
        Unidentified: it is for none of them.
    """
    rivals = [other for other in others if other.cookie == source.cookie]
    token = source.token(request) if len(rivals) > 1 else None
    if token is None or source.takes(token):
        return True
    if not any(other.takes(token) for other in rivals):
        raise Unidentified("the token comes from no issuer that counts here", token=source.by_header)
    return False


def _judged(directory: Directory, member: Member | None, claimed: Caller, by_token: bool) -> Caller:
    try:
        return directory.judged(member, claimed.id, claimed)
    except Unidentified as error:
        raise Unidentified(error.reason, token=by_token) from error


def load(file: str | os.PathLike[str] | Settings, directory: Directory | None = None) -> Identification:
    """The identification that settings describe under ``[identity]`` and ``[directory]``.

    Args:
        file: the settings file, such as ``bloodroot.toml``, or settings that have been read.
        directory: the one to ask, where the application has opened it already.

    Raises:
        SettingsError: the settings cannot be used, or a key they name cannot be read.
    """
    settings = file if isinstance(file, Settings) else read_settings(Path(file).resolve())
    if not settings.identity:
        raise SettingsError(
            f"{settings.file.name}: nothing says who is calling; write [identity] with from = "
            '"jwt", "session", "header" or another source'
        )
    if directory is None and settings.directory is not None:
        directory = directory_of(settings)
    asking = next((source for source in settings.identity if source.asks_directory), None)
    if directory is None and asking is not None:
        kind = asking.kind if asking.kind != "session" else "directory"
        raise SettingsError(
            f'{settings.file.name}: from = "{kind}" needs a directory; write [directory] with url = "..."'
        )
    return Identification(
        [PlacedSource(_source(each, settings, directory), each.covers, each.looks_up) for each in settings.identity],
        directory,
    )


def directory_of(settings: Settings) -> Directory:
    """The directory that settings describe.

    Raises:
        SettingsError: they describe none, or one that cannot be opened.
    """
    from .directory import Directory

    if settings.directory is None:
        raise SettingsError(
            f"{settings.file.name}: there is no directory; write [directory] with url = "
            '"sqlite:///members.db", or another database'
        )
    url = settings.fill(settings.directory.url, None, "directory.url")
    return Directory(settings.directory, settings.folder, url=url)


def _source(source: SourceSettings, settings: Settings, directory: Directory | None) -> Source:
    if source.token is not None:
        from .tokens import token_check

        return BearerToken(token_check(source.token, settings), source.claims, source.cookie)
    if source.introspection is not None:
        from .introspection import Introspection

        secret = settings.fill(source.introspection.secret, None, "identity.secret")
        return Introspection(source.introspection, source.claims, secret, source.cookie)
    if source.kind == "certificate":
        from .certificates import Certificate

        return Certificate(source.claims, source.senders, source.header)
    if source.kind == "header":
        return Header(source.claims, source.senders)
    if source.kind in ("key", "basic") and directory is not None:
        from .api_keys import ApiKey
        from .basic import Basic

        if source.kind == "key":
            return ApiKey(directory, source.header or "X-Api-Key")
        directory.check_passwords()
        return Basic(directory)
    return Session(source.claims)
