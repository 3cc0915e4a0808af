# Completion of mosaicum in fish: the program itself knows what may come next.
function __mosaicum_words
    set -l words (commandline -opc) (commandline -ct)
    $words[1] complete -- $words[2..-1] 2>/dev/null
end
function __mosaicum_files
    __mosaicum_words >/dev/null
    test $status -eq 1
end
complete -c mosaicum -f -a '(__mosaicum_words)'
complete -c mosaicum -n __mosaicum_files -F
