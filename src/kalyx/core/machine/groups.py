"""Groups of users, by what the system says of them."""

from __future__ import annotations

import os

__all__ = ["is_private"]


def is_private(group: int, user: int) -> bool:
    """Whether a group is the user's own, or the administrator's, and has nobody else in it."""
    if os.name != "posix":
        return False
    import grp
    import pwd

    try:
        members = grp.getgrgid(group)
        owners = {one.pw_name: one.pw_gid for one in map(pwd.getpwuid, {0, user})}
    except KeyError:
        return False
    return owners.get(members.gr_name) == group and set(members.gr_mem) <= set(owners)
