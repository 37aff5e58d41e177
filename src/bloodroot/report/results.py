"""Results of commands that consist of more than one thing, as plain data."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from collections.abc import Mapping

    from ..core.caller import Caller
    from ..core.lines import Line
    from ..core.matrix import Matrix
    from ..core.policy import Policy
    from ..core.roles_added import RoleAdds
    from ..identity.examination import Examined
    from ..review.observed import Cells


@dataclass(frozen=True, slots=True)
class MatrixResult:
    """The matrix of a policy.

    Attributes:
        policy: the policy.
        matrix: the matrix.
        callers: for a matrix of personas, the caller of each column; None for one of roles.
        observed: what a probe observed, by the numbers of row and column; None where no journal was given.
        folded: whether endpoints with equal rows are shown as one.
        guards: whether to show what guards in handlers require.
    """

    policy: Policy
    matrix: Matrix
    callers: Mapping[str, Caller | None] | None = None
    observed: Cells | None = None
    folded: bool = False
    guards: bool = False


@dataclass(frozen=True, slots=True)
class RolesResult:
    """The roles of a policy, with what each adds to those that it includes."""

    policy: Policy
    roles: tuple[RoleAdds, ...]


@dataclass(frozen=True, slots=True)
class LinesResult:
    """The lines that cover a request.

    Attributes:
        method: the method of the request.
        path: its path.
        lines: the endpoint lines, the one that decides first.
        rules: the standing rules that must hold as well.
    """

    method: str
    path: str
    lines: tuple[Line, ...]
    rules: tuple[Line, ...]


@dataclass(frozen=True, slots=True)
class TokenResult:
    """What a token comes to under a policy."""

    policy: Policy
    examined: Examined


@dataclass(frozen=True, slots=True)
class MadeToken:
    """A token made for development.

    Attributes:
        policy: the policy that knows the caller's roles.
        token: the token.
        who: what the caller is called.
        caller: whom it is for.
        minutes: for how long it is valid.
    """

    policy: Policy
    token: str
    who: str
    caller: Caller
    minutes: float


@dataclass(frozen=True, slots=True)
class FormattedFile:
    """One policy file and its tidy form.

    Attributes:
        name: the name of the file.
        tidy: whether it was tidy already.
        diff: what changes, as a unified diff; empty for a tidy file.
    """

    name: str
    tidy: bool
    diff: str


@dataclass(frozen=True, slots=True)
class FormatResult:
    """What formatting came to.

    Attributes:
        files: the files, in the order they were named.
        shows_diff: whether the table shows what changes.
    """

    files: tuple[FormattedFile, ...]
    shows_diff: bool
