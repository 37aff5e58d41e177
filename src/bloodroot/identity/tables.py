"""Bloodroot's own tables for a directory: members, roles, groups, memberships and grants."""

from __future__ import annotations

from typing import Any

import sqlalchemy as sa

metadata = sa.MetaData()

members = sa.Table(
    "bloodroot_members",
    metadata,
    sa.Column("id", sa.Integer, primary_key=True),
    sa.Column("login", sa.String(200), nullable=False, unique=True),
    sa.Column("name", sa.String(200), nullable=False, default=""),
    sa.Column("status", sa.String(40), nullable=False, default="active"),
    sa.Column("password", sa.String(200)),
    sa.Column("attributes", sa.JSON, nullable=False, default=dict),
    # The number of a deleted member is never used again, or an old token would identify another member.
    sqlite_autoincrement=True,
)

roles = sa.Table(
    "bloodroot_roles",
    metadata,
    sa.Column("name", sa.String(200), primary_key=True),
    sa.Column("description", sa.String(400), nullable=False, default=""),
)

groups = sa.Table(
    "bloodroot_groups",
    metadata,
    sa.Column("name", sa.String(200), primary_key=True),
)


def _until() -> sa.Column[Any]:
    """From when on something is not held any more; null for no end."""
    return sa.Column("until", sa.DateTime(timezone=True))


def _of_member(name: str, other: str, key: str) -> sa.Table:
    """A table that says which members have which of something."""
    return sa.Table(
        name,
        metadata,
        sa.Column("member_id", sa.ForeignKey("bloodroot_members.id", ondelete="CASCADE"), primary_key=True),
        sa.Column(key, sa.ForeignKey(f"{other}.name"), primary_key=True, index=True),
        _until(),
    )


member_roles = _of_member("bloodroot_member_roles", "bloodroot_roles", "role")
memberships = _of_member("bloodroot_memberships", "bloodroot_groups", "group_name")

# The policy says what a role may do. Beside that, a permission may be given to one member or one group.
member_grants = sa.Table(
    "bloodroot_member_grants",
    metadata,
    sa.Column("member_id", sa.ForeignKey("bloodroot_members.id", ondelete="CASCADE"), primary_key=True),
    sa.Column("permission", sa.String(200), primary_key=True),
    _until(),
)

group_grants = sa.Table(
    "bloodroot_group_grants",
    metadata,
    sa.Column("group_name", sa.ForeignKey("bloodroot_groups.name", ondelete="CASCADE"), primary_key=True),
    sa.Column("permission", sa.String(200), primary_key=True),
)


# Roles that are held in one record of a thing, perhaps until some moment.
member_roles_in = sa.Table(
    "bloodroot_member_roles_in",
    metadata,
    sa.Column("member_id", sa.ForeignKey("bloodroot_members.id", ondelete="CASCADE"), primary_key=True),
    sa.Column("thing", sa.String(100), primary_key=True),
    sa.Column("record", sa.String(200), primary_key=True),
    sa.Column("role", sa.ForeignKey("bloodroot_roles.name"), primary_key=True, index=True),
    _until(),
)


# What programs show who are no browsers: a key, of which the hash alone is kept.
keys = sa.Table(
    "bloodroot_keys",
    metadata,
    sa.Column("hash", sa.String(64), primary_key=True),
    sa.Column("member_id", sa.ForeignKey("bloodroot_members.id", ondelete="CASCADE"), nullable=False, index=True),
    sa.Column("name", sa.String(200), nullable=False, default=""),
    sa.Column("scopes", sa.JSON),
    _until(),
)


# When each member was given what it holds. A review of access asks for it; decisions do not.
given = sa.Table(
    "bloodroot_given",
    metadata,
    sa.Column("member_id", sa.ForeignKey("bloodroot_members.id", ondelete="CASCADE"), primary_key=True),
    sa.Column("kind", sa.String(20), primary_key=True),
    sa.Column("name", sa.String(200), primary_key=True),
    sa.Column("at", sa.DateTime(timezone=True), nullable=False),
)

# Everything that goes with a member.
OF_MEMBERS = (member_roles, memberships, member_grants, member_roles_in, keys)
# The tables of what members hold, each with what `given` calls it.
HELD = (
    (member_roles, "role"),
    (memberships, "group"),
    (member_grants, "permission"),
    (member_roles_in, "role"),
)


def without_password() -> sa.Select[Any]:
    """The members, without their passwords."""
    return sa.select(*(column for column in members.c if column.name != "password"))


# A permission, who has it in words, the group that has it, and its end: that of the grant, or of the membership.
_GRANTED_TO_MEMBER = (
    member_grants.c.permission,
    sa.literal("the member").label("source"),
    sa.cast(sa.null(), sa.String).label("group_name"),
    member_grants.c.until,
)
_GRANTED_TO_GROUP = (
    group_grants.c.permission,
    (sa.literal("group ") + group_grants.c.group_name).label("source"),
    group_grants.c.group_name.label("group_name"),
    memberships.c.until,
)


def brought_up_to_date(connection: sa.Connection) -> None:
    """Make the tables that are missing, and in tables of earlier versions the columns that are."""
    metadata.create_all(connection)
    inspector = sa.inspect(connection)
    for table in (member_roles, memberships, member_grants):
        if all(column["name"] != "until" for column in inspector.get_columns(table.name)):
            kind = table.c.until.type.compile(connection.dialect)
            connection.execute(sa.text(f"alter table {table.name} add column until {kind}"))


def of_all_members() -> dict[str, sa.Executable]:
    """The roles, groups, permissions and roles in records of all members, each with ``member_id``."""
    to_member = sa.select(member_grants.c.member_id, *_GRANTED_TO_MEMBER)
    to_group = sa.select(memberships.c.member_id, *_GRANTED_TO_GROUP).join(
        group_grants, group_grants.c.group_name == memberships.c.group_name
    )
    return {
        "roles": sa.select(*member_roles.c),
        "groups": sa.select(*memberships.c),
        "permissions": sa.union_all(to_member, to_group),
        "roles_in": sa.select(*member_roles_in.c),
    }


def of_one_member() -> sa.Select[Any]:
    """A member whose number is ``:id``, in one question: a row for each thing that it holds, or one row for nothing.

    Beside the columns of the member there are ``held`` (``roles``, ``groups``, ``permissions``, ``roles_in``; None for
    nothing), ``held_name``, ``source``, ``group_name`` and ``until`` as `of_all_members` has them; of roles in records
    the thing is in ``source`` and the record in ``group_name``.
    """
    member = sa.bindparam("id", type_=sa.Integer)
    nothing = sa.cast(sa.null(), sa.String)
    in_record = member_roles_in.c
    held = sa.union_all(
        _held("roles", member_roles.c.role, nothing, nothing, member_roles.c.until).where(
            member_roles.c.member_id == member
        ),
        _held("groups", memberships.c.group_name, nothing, nothing, memberships.c.until).where(
            memberships.c.member_id == member
        ),
        _held("permissions", *_GRANTED_TO_MEMBER).where(member_grants.c.member_id == member),
        _held("permissions", *_GRANTED_TO_GROUP).where(
            group_grants.c.group_name == memberships.c.group_name, memberships.c.member_id == member
        ),
        _held("roles_in", in_record.role, in_record.thing, in_record.record, in_record.until).where(
            in_record.member_id == member
        ),
    ).subquery("held")
    columns = (members.c.id, members.c.login, members.c.name, members.c.status, members.c.attributes)
    return sa.select(*columns, *held.c).select_from(members.outerjoin(held, sa.true())).where(members.c.id == member)


def _held(kind: str, name: Any, source: Any, group: Any, until: Any) -> sa.Select[Any]:
    return sa.select(
        sa.literal(kind).label("held"),
        name.label("held_name"),
        source.label("source"),
        group.label("group_name"),
        until.label("until"),
    )
