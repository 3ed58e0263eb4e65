# bash completion for pargeter: the program itself knows what can stand where
_pargeter() {
  local words=("${COMP_WORDS[@]:1:COMP_CWORD}") line
  local -a found=()
  COMPREPLY=()
  while IFS= read -r line; do
    case $line in
      :files) compopt -o filenames; while IFS= read -r line; do found+=("$line"); done < <(compgen -f -- "${words[-1]}") ;;
      :folders) compopt -o filenames; while IFS= read -r line; do found+=("$line"); done < <(compgen -d -- "${words[-1]}") ;;
      *) found+=("${line%%$'\t'*}") ;;
    esac
  done < <(pargeter complete "${words[@]}" 2>/dev/null)
  COMPREPLY=("${found[@]}")
}
complete -F _pargeter pargeter
