# completion of verdex for bash; the words are handed over as they stand on the line, and nothing of it is evaluated
_verdex() {
  local kind word meaning
  COMPREPLY=()
  {
    IFS= read -r kind
    while IFS=$'\t' read -r word meaning; do
      COMPREPLY+=("$word")
    done
  } < <(command verdex __complete bash "${COMP_WORDS[@]:1:COMP_CWORD}" 2>/dev/null)
  if [[ $kind == files ]]; then
    compopt -o default 2>/dev/null
  fi
}
complete -F _verdex verdex
