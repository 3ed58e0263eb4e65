# fish completion for pargeter: the program itself knows what can stand where
function __pargeter_complete
    set -l words (commandline -opc)[2..-1] (commandline -ct)
    for line in (pargeter complete $words 2>/dev/null)
        switch $line
            case :files
                __fish_complete_path (commandline -ct)
            case :folders
                __fish_complete_directories (commandline -ct) ''
            case '*'
                echo $line
        end
    end
end
complete -c pargeter -f -a '(__pargeter_complete)'
