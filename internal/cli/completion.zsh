#compdef verdex
# completion of verdex for zsh; the words are handed over as they stand on the line, and nothing of it is evaluated
_verdex() {
  local kind word meaning
  local -a list
  {
    IFS= read -r kind
    while IFS=$'\t' read -r word meaning; do
      list+=("${word//:/\\:}:$meaning")
    done
  } < <(command verdex __complete zsh "${(@)words[2,CURRENT]}" 2>/dev/null)
  if [[ $kind == files ]]; then
    compset -P '*='
    _files
  else
    _describe -V verdex list
  fi
}
if [[ $funcstack[1] == _verdex ]]; then
  _verdex "$@"
else
  compdef _verdex verdex
fi
