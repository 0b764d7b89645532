"""The commands, each answering with plain values."""

from knollside.commands.answered import COMMANDS
from knollside.commands.opened import OpenJob

__all__ = ["COMMANDS", "OpenJob"]
