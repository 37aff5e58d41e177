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


def _of_member(name: str, other: str, key: str) -> sa.Table:
    """A table that says which members have which of something."""
    return sa.Table(
        name,
        metadata,
        sa.Column("member_id", sa.ForeignKey("bloodroot_members.id", ondelete="CASCADE"), primary_key=True),
        sa.Column(key, sa.ForeignKey(f"{other}.name"), primary_key=True, index=True),
    )


member_roles = _of_member("bloodroot_member_roles", "bloodroot_roles", "role")
memberships = _of_member("bloodroot_memberships", "bloodroot_groups", "group_name")

# The policy says what a role may do. Beside that, a permission may be given to one member or one group.
member_grants = sa.Table(
    "bloodroot_member_grants",
    metadata,
    sa.Column("member_id", sa.ForeignKey("bloodroot_members.id", ondelete="CASCADE"), primary_key=True),
    sa.Column("permission", sa.String(200), primary_key=True),
)

group_grants = sa.Table(
    "bloodroot_group_grants",
    metadata,
    sa.Column("group_name", sa.ForeignKey("bloodroot_groups.name", ondelete="CASCADE"), primary_key=True),
    sa.Column("permission", sa.String(200), primary_key=True),
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

# The tables of what members hold, each with what `given` calls it.
HELD = ((member_roles, "role"), (memberships, "group"), (member_grants, "permission"))


def without_password() -> sa.Select[Any]:
    """The members, without their passwords."""
    return sa.select(*(column for column in members.c if column.name != "password"))


# A permission, who has it in words, and the group that has it.
_GRANTED_TO_MEMBER = (
    member_grants.c.permission,
    sa.literal("the member").label("source"),
    sa.cast(sa.null(), sa.String).label("group_name"),
)
_GRANTED_TO_GROUP = (
    group_grants.c.permission,
    (sa.literal("group ") + group_grants.c.group_name).label("source"),
    group_grants.c.group_name.label("group_name"),
)


def of_all_members() -> dict[str, sa.Executable]:
    """The roles, groups and permissions of all members, each with ``member_id``: as `queries` has them for one."""
    to_member = sa.select(member_grants.c.member_id, *_GRANTED_TO_MEMBER)
    to_group = sa.select(memberships.c.member_id, *_GRANTED_TO_GROUP).join(
        group_grants, group_grants.c.group_name == memberships.c.group_name
    )
    return {
        "roles": sa.select(*member_roles.c),
        "groups": sa.select(*memberships.c),
        "permissions": sa.union_all(to_member, to_group),
    }


def queries() -> dict[str, sa.Executable]:
    """What to ask of a member whose number is ``:id``: the same questions that other tables are asked by name."""
    asked = sa.bindparam("id", type_=sa.Integer)
    own_groups = sa.select(memberships.c.group_name).where(memberships.c.member_id == asked)
    to_member = sa.select(*_GRANTED_TO_MEMBER)
    to_group = sa.select(*_GRANTED_TO_GROUP)
    return {
        "member": sa.select(
            members.c.id, members.c.login, members.c.name, members.c.status, members.c.attributes
        ).where(members.c.id == asked),
        "roles": sa.select(member_roles.c.role).where(member_roles.c.member_id == asked),
        "groups": own_groups,
        "permissions": sa.union_all(
            to_member.where(member_grants.c.member_id == asked),
            to_group.where(group_grants.c.group_name.in_(own_groups)),
        ),
    }
