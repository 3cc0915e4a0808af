# Completion of mosaicum in bash: the program itself knows what may come next.
_mosaicum() {
    local line=${COMP_LINE:0:COMP_POINT} words found files
    read -ra words <<<"$line"
    [[ $line == *[[:space:]] ]] && words+=("")
    found=$("${words[0]}" complete -- "${words[@]:1}" 2>/dev/null)
    files=$?
    COMPREPLY=()
    [[ $found ]] && mapfile -t COMPREPLY < <(sort -u <<<"$found")
    local word=${words[${#words[@]} - 1]}
    if [[ $files -eq 1 ]]; then
        mapfile -t -O ${#COMPREPLY[@]} COMPREPLY < <(compgen -f -- "$word")
        compopt -o filenames
    elif [[ $word == *:* && $COMP_WORDBREAKS == *:* ]]; then
        COMPREPLY=("${COMPREPLY[@]#"${word%"${word##*:}"}"}")
    fi
    [[ ${COMPREPLY[0]} == */ ]] && compopt -o nospace
}
complete -F _mosaicum mosaicum
