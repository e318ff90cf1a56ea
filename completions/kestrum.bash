# Completion for bash: verbs, options, jobs, points, and paths inside a point. Install it as
# bash-completion/completions/kestrum, or: source kestrum.bash
_kestrum() {
  local i
  # The words up to the one being typed, without the backslashes that blanks are typed with.
  local -a words=("${COMP_WORDS[@]:1:COMP_CWORD}")
  for i in "${!words[@]}"; do words[i]=${words[i]//\\/}; done
  # Behind "--" nothing is taken for an option of the program itself.
  mapfile -t COMPREPLY < <(kestrum suggest -- "${words[@]}" 2>/dev/null)
  # Behind a folder one goes on typing.
  [[ ${#COMPREPLY[@]} -eq 1 && ${COMPREPLY[0]} == */ ]] && compopt -o nospace 2>/dev/null
  for i in "${!COMPREPLY[@]}"; do COMPREPLY[i]=$(printf '%q' "${COMPREPLY[i]}"); done
}
# Where the program knows nothing, files of this machine are offered.
complete -o default -F _kestrum kestrum
