from typing import Literal

class _Node:
    source_line: int
    source_column: int
    def serialize(self) -> str: ...

class ParseError(_Node):
    type: Literal["error"]
    kind: str
    message: str

class Comment(_Node):
    type: Literal["comment"]
    value: str

class WhitespaceToken(_Node):
    type: Literal["whitespace"]
    value: str

class LiteralToken(_Node):
    type: Literal["literal"]
    value: str

class IdentToken(_Node):
    type: Literal["ident"]
    value: str
    lower_value: str

class AtKeywordToken(_Node):
    type: Literal["at-keyword"]
    value: str
    lower_value: str

class HashToken(_Node):
    type: Literal["hash"]
    value: str
    is_identifier: bool

class StringToken(_Node):
    type: Literal["string"]
    value: str
    representation: str

class URLToken(_Node):
    type: Literal["url"]
    value: str
    representation: str

class UnicodeRangeToken(_Node):
    type: Literal["unicode-range"]
    start: int
    end: int

class NumberToken(_Node):
    type: Literal["number"]
    value: float
    int_value: int | None
    is_integer: bool
    representation: str

class PercentageToken(_Node):
    type: Literal["percentage"]
    value: float
    int_value: int | None
    is_integer: bool
    representation: str

class DimensionToken(_Node):
    type: Literal["dimension"]
    value: float
    int_value: int | None
    is_integer: bool
    representation: str
    unit: str
    lower_unit: str

class ParenthesesBlock(_Node):
    type: Literal["() block"]
    content: list[Value]

class SquareBracketsBlock(_Node):
    type: Literal["[] block"]
    content: list[Value]

class CurlyBracketsBlock(_Node):
    type: Literal["{} block"]
    content: list[Value]

class FunctionBlock(_Node):
    type: Literal["function"]
    name: str
    lower_name: str
    arguments: list[Value]

class Declaration(_Node):
    type: Literal["declaration"]
    name: str
    lower_name: str
    value: list[Value]
    important: bool

class QualifiedRule(_Node):
    type: Literal["qualified-rule"]
    prelude: list[Value]
    content: list[Value]

class AtRule(_Node):
    type: Literal["at-rule"]
    at_keyword: str
    lower_at_keyword: str
    prelude: list[Value]
    content: list[Value] | None

#: A part of a value, or of what stands before a block (css-syntax-3, §4 and §5, component value).
Value = (
    ParseError
    | Comment
    | WhitespaceToken
    | LiteralToken
    | IdentToken
    | AtKeywordToken
    | HashToken
    | StringToken
    | URLToken
    | UnicodeRangeToken
    | NumberToken
    | PercentageToken
    | DimensionToken
    | ParenthesesBlock
    | SquareBracketsBlock
    | CurlyBracketsBlock
    | FunctionBlock
)
#: A rule of a style sheet, and a part of the block of one.
Rule = QualifiedRule | AtRule | ParseError
Part = Declaration | Rule
Node = Value | Part
