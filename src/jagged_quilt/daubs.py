"""Painted strokes: made, kept in files, and laid over weights.

Examples
--------
>>> import jagged_quilt as jq
>>> [kind.value for kind in jq.daubs.DaubKind]
['paint', 'erase', 'smooth']
"""

from jagged_quilt.weights.daub import Daub as Daub
from jagged_quilt.weights.daub import DaubKind as DaubKind
from jagged_quilt.weights.daub_file import append_daub as append_daub
from jagged_quilt.weights.daub_file import read_daubs as read_daubs
from jagged_quilt.weights.daub_file import write_daubs as write_daubs
from jagged_quilt.weights.daub_windows import DaubFile as DaubFile
from jagged_quilt.weights.weigh import lay_daubs as lay_daubs

__all__ = ["Daub", "DaubFile", "DaubKind", "append_daub", "lay_daubs", "read_daubs", "write_daubs"]
