# completion of verdex for fish; the words are handed over as they stand on the line, and nothing of it is evaluated
function __verdex_complete
    set -l words (commandline -opc)
    set -l word (commandline -ct)
    set -l list (command verdex __complete fish $words[2..-1] "$word" 2>/dev/null)
    if test "$list[1]" = files
        __fish_complete_path "$word"
    else
        printf '%s\n' $list[2..-1]
    end
end
complete -c verdex -f -a '(__verdex_complete)'
