"""OpenSSH's client configuration."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from nailer.core.connecting.ssh_config import read_config

CONFIG = """
# the studio's hosts
Host skerry skerry-live
    HostName ftp.skerryferries.example
    User maren
    Port 2222
    IdentityFile ~/.ssh/studio
Host jump
    HostName %h.example
    ProxyJump gate
Host *.example !secret.example
    User everybody
Match user root
    Port 1
Host *
    User fallback
    Port 22
"""


def test_a_client_configuration_is_read_as_ssh_reads_it() -> None:
    hosts = {one.alias: one for one in read_config(CONFIG)}

    assert list(hosts) == ["skerry", "skerry-live", "jump"]
    assert (hosts["skerry"].host, hosts["skerry"].port) == ("ftp.skerryferries.example", 2222)
    assert hosts["skerry"].key_file == "~/.ssh/studio"
    assert (hosts["jump"].host, hosts["jump"].user, hosts["jump"].unread) == (
        "jump.example",
        "fallback",
        ("proxyjump",),
    )


@given(st.text(max_size=300))
def test_any_text_can_be_read_as_a_configuration(text: str) -> None:
    assert all(one.alias for one in read_config(text))
