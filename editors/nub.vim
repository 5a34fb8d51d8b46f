" Colours of Nub, for Vim and Neovim: put it into a folder `syntax` of the runtime path.
if exists("b:current_syntax")
  finish
endif

syntax keyword nubDeclaration target test job service option let type kind
syntax keyword nubKeyword use as from private within tagged give each where if then else match with under in and or not
syntax keyword nubConstant true false none
syntax match nubNumber "\<[0-9][0-9_]*\(ms\|s\|m\|h\)\?\>"
syntax match nubReference "&/\?[A-Za-z_][A-Za-z0-9_/.-]*"
syntax region nubHole start="{\({\)\@!" end="}" contained contains=TOP
syntax match nubEscape "\\.\|{{\|}}" contained
syntax region nubText start=+"+ end=+"+ contains=nubHole,nubEscape
syntax region nubPattern start=+'+ end=+'+ oneline
syntax region nubCommand start="`" end="`" contains=nubHole,nubEscape
syntax match nubComment "#.*$"
syntax match nubDocumentation "##.*$"

highlight default link nubDeclaration Structure
highlight default link nubKeyword Keyword
highlight default link nubConstant Constant
highlight default link nubNumber Number
highlight default link nubReference Identifier
highlight default link nubText String
highlight default link nubPattern String
highlight default link nubCommand PreProc
highlight default link nubEscape SpecialChar
highlight default link nubComment Comment
highlight default link nubDocumentation SpecialComment

let b:current_syntax = "nub"
