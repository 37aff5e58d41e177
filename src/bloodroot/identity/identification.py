"""Who is calling: the sources of the settings in their order, and the directory for the present roles."""

from __future__ import annotations

import os
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ..core.caller import Caller, Unidentified
from ..core.paths import Template, read_path
from ..request import Request, request_of
from ..settings import Settings, SettingsError, SourceSettings, read_settings
from ..threads import Threads
from .fresh import Unknown
from .sources import BearerToken, Header, Session, Source, TokenSource

if TYPE_CHECKING:
    from .directory import Directory
    from .members import Member


# As many as ask a directory at the same time; loaders wait for others.
_MOST_LOOK_UPS = 8
_AGAIN = 60.0


@dataclass(frozen=True, slots=True)
class PlacedSource:
    """A source, and the paths that it is for; None for all."""

    source: Source
    covers: Template | None = None


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
        claimed, by_token = self.claimed(request, path)
        if claimed is None or self.directory is None:
            return claimed
        return _judged(self.directory, self.directory.member(claimed.id), claimed, by_token)

    async def asynchronous(self, request: Any, path: str | None = None) -> Caller | None:
        """The same without making an event loop wait: what is not remembered is asked for in a thread."""
        request = request_of(request)
        sources = self._sources_for(path or request.path)
        if any(source.source.waits(request) for source in sources):
            claimed, by_token = await self._waiting.run(_first, sources, request)
        else:
            claimed, by_token = _first(sources, request)
        if claimed is None or self.directory is None:
            return claimed
        member = self.directory.remembered(claimed.id)
        if isinstance(member, Unknown):
            member = await self._threads.run(self.directory.member, claimed.id)
        return _judged(self.directory, member, claimed, by_token)

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
            if isinstance(source.source, Header):
                source.source.check_for_wsgi()

    def claimed(self, request: Any, path: str | None = None) -> tuple[Caller | None, bool]:
        """Who the request alone says sent it, and whether a token says so; the request is any framework's own."""
        request = request_of(request)
        return _first(self._sources_for(path or request.path), request)

    def _sources_for(self, path: str) -> list[PlacedSource]:
        segments = read_path(path) if self._made_for_paths else None
        if segments is None:
            return self._made_for_all
        sources = [made for made in self._made_for_paths if made.covers is not None and made.covers.covers(segments)]
        return sources or self._made_for_all


def _first(sources: list[PlacedSource], request: Request) -> tuple[Caller | None, bool]:
    """Who the first source that finds something says sent a request, and whether a token says so.

    Raises:
        Unidentified: that source does not accept it, or a token is for none of them.
    """
    tokens = [placed.source for placed in sources if isinstance(placed.source, TokenSource)]
    for placed in sources:
        source = placed.source
        if isinstance(source, TokenSource) and not _is_taken(request, source, tokens):
            continue
        reading = source.read(request)
        if reading is not None:
            return reading.caller, isinstance(source, TokenSource) and source.by_header
    return None, False


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
            '"jwt", "session", "header" or "directory"'
        )
    if directory is None and settings.directory is not None:
        directory = directory_of(settings)
    if directory is None and any(source.asks_directory for source in settings.identity):
        raise SettingsError(
            f'{settings.file.name}: from = "directory" needs a directory; write [directory] with url = "..."'
        )
    return Identification(
        [
            PlacedSource(_source(source_settings, settings), source_settings.covers)
            for source_settings in settings.identity
        ],
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


def _source(source: SourceSettings, settings: Settings) -> Source:
    if source.token is not None:
        from .tokens import token_check

        return BearerToken(token_check(source.token, settings), source.claims, source.cookie)
    if source.kind == "header":
        return Header(source.claims, source.senders)
    return Session(source.claims)
