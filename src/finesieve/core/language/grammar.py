"""The grammar, as lark reads it, and the words it reserves."""

from typing import Final

from finesieve.core.fields.keys import RESERVED

__all__ = ["GRAMMAR"]

_WORDS: Final = "\n".join(f"_{word.upper()}: /{word}(?![a-z0-9_])/i" for word in RESERVED)

GRAMMAR: Final = rf"""
start: or_
?or_ : and_ (_OR and_)*
?and_: not_ (_AND not_)*
?not_: _NOT not_ -> not_op
     | test
?test: alt
     | alt CMP alt               -> compare
     | alt CMP alt (CMP alt)+    -> chained
     | alt _BETWEEN alt _AND alt -> between
     | alt _IN list              -> in_
     | alt _NOT _IN list         -> not_in
     | alt _CONTAINS alt         -> contains
     | alt _STARTS _WITH alt     -> starts_with
     | alt _ENDS _WITH alt       -> ends_with
     | alt _HOLDS alt            -> holds
     | alt _HOLDS _ANY list      -> holds_any
     | alt _HOLDS _EVERY list    -> holds_every
     | alt _HOLDS _NO list       -> holds_no
     | alt _IS _BLANK            -> is_blank
     | alt _IS _FILLED           -> is_filled
     | alt _MATCHES TEXT         -> matches
?alt : joined (_ELSE joined)*
?joined: sum (_AND_SIGN sum)*
?sum : term ((PLUS | MINUS) term)*
?term: unary ((STAR | SLASH) unary)*
?unary: MINUS unary -> minus
      | atom
?atom: NUMBER -> number
     | PERCENT -> percent
     | TEXT -> text
     | _TRUE -> true
     | _FALSE -> false
     | _BLANK -> blank
     | path
     | call
     | "(" or_ ")"
path : NAME ("." NAME)~0..2
call : fname "(" [arg ("," arg)*] ")"
fname: NAME -> fname
     | _ANY -> fname_any
?arg : or_
     | or_ _WHERE or_         -> where
     | or_ _BY alt            -> by
     | or_ _WHERE or_ _BY alt -> where_by
list : "(" alt ("," alt)* ")"
CMP: "!=" | "<=" | ">=" | "=" | "<" | ">"
_AND_SIGN: "&"
PLUS: "+"
MINUS: "-"
STAR: "*"
SLASH: "/"
PERCENT: /[0-9]+(\.[0-9]+)?%/
NUMBER: /[0-9]+(\.[0-9]+)?(?![0-9a-z_.%])/i
TEXT: /"(\\.|[^"\\\r\n])*"|'(\\.|[^'\\\r\n])*'/
NAME: /(?!({"|".join(RESERVED)})(?![a-z0-9_]))[a-z][a-z0-9_]*/i
{_WORDS}
%ignore /[ \t\r\n\u00a0]+|#[^\n]*/
"""
