"""Numbers that depend on time: "= 0.3 + 0.2 * sin(time)" in place of a number."""

from __future__ import annotations

import ast
import math
import operator
from collections.abc import Callable

from jagged_quilt.foundation.errors import RangeError
from jagged_quilt.foundation.json_types import Unchecked
from jagged_quilt.quiltfile.key_paths import Path

_SIGNS: dict[type, Callable[..., Unchecked]] = {
    ast.Add: operator.add,
    ast.Sub: operator.sub,
    ast.Mult: operator.mul,
    ast.Div: operator.truediv,
    ast.Mod: operator.mod,
    ast.Pow: operator.pow,
    ast.USub: operator.neg,
    ast.UAdd: operator.pos,
}
_CALLS: dict[str, Callable[..., Unchecked]] = {
    "sin": math.sin,
    "cos": math.cos,
    "sqrt": math.sqrt,
    "abs": abs,
    "min": min,
    "max": max,
    "floor": lambda x: float(math.floor(x)),
    "round": lambda x, digits=0.0: round(x, int(min(max(digits, -300), 300))),
}
_LONGEST = 1000  # characters


def is_formula(value: object) -> bool:
    """Whether a value of a quilt file is text that begins with an equals sign."""
    return isinstance(value, str) and value.lstrip().startswith("=")


def value_of(formula: str, time: float) -> float:
    """Return what a formula gives at a time, in whatever unit the writer has in mind.

    Numbers, time, pi, + - * / % **, brackets, and sin, cos, sqrt, abs, min, max, floor and round (in radians).

    Raises
    ------
    RangeError
        If it says anything else, is longer than 1000 characters, or gives no finite number.
    """
    text = formula.lstrip().removeprefix("=").strip()
    if len(text) > _LONGEST:
        reason = f"it has {len(text)} characters, and at most {_LONGEST} are read"
        raise RangeError(f'the formula "{text[:40]}..." gives no number ({reason})')
    try:
        value = float(_value(ast.parse(text, mode="eval").body, {"time": float(time), "pi": math.pi}))
        is_number = math.isfinite(value)
    except (SyntaxError, ValueError, TypeError, ZeroDivisionError, OverflowError, RecursionError, MemoryError) as error:
        raise RangeError(f'the formula "{text}" gives no number ({error})') from None
    if not is_number:
        raise RangeError(f'the formula "{text}" gives no number at time {time:g}; it gives {value}')
    return int(value) if value.is_integer() and abs(value) < 1 << 53 else value  # for keys that count


def put_numbers(table: Unchecked, time: float, refuse: Callable[[Path, str], None], path: Path = ()) -> None:
    """Replace every formula in a table read from a quilt file by its number, in place; other text is left alone.

    `refuse` is called with the key path of a formula that gives no number, and why.
    """
    for key, value in list(table.items() if isinstance(table, dict) else enumerate(table)):
        if isinstance(value, (dict, list)):
            put_numbers(value, time, refuse, (*path, key))
        elif is_formula(value):
            try:
                table[key] = value_of(value, time)
            except RangeError as error:
                refuse((*path, key), str(error))


def _value(node: ast.AST, known: dict[str, float]) -> Unchecked:
    match node:
        case ast.Constant(value=int() | float() as number) if not isinstance(number, bool):
            return float(number)  # never whole numbers of any length
        case ast.Name(id=name) if name in known:
            return known[name]
        case ast.UnaryOp(op=op, operand=operand) if type(op) in _SIGNS:
            return _SIGNS[type(op)](_value(operand, known))
        case ast.BinOp(op=ast.Pow(), left=left, right=right):
            base, power = _value(left, known), _value(right, known)
            if abs(power) > 64:
                raise ValueError("a power above 64")
            return base**power
        case ast.BinOp(left=left, op=op, right=right) if type(op) in _SIGNS:
            return _SIGNS[type(op)](_value(left, known), _value(right, known))
        case ast.Call(func=ast.Name(id=name), args=arguments, keywords=[]) if name in _CALLS:
            return _CALLS[name](*(_value(each, known) for each in arguments))
    raise ValueError(f"it may hold numbers, time, pi, + - * / % **, brackets, and {', '.join(sorted(_CALLS))}")
