// SPDX-License-Identifier: MIT
// What shells read: they ask the program, and find files by themselves.

#include "completion.hpp"

namespace wavicon::cli {
namespace {

constexpr const char* kBash = R"shell(# bash: finishes what is typed behind wavicon.
#   eval "$(wavicon completion bash)"
_wavicon_words() {
  local lines kind endings line word ending words=()
  COMPREPLY=()
  mapfile -t lines < <(wavicon completion --line "${COMP_LINE:0:COMP_POINT}" \
    --breaks "$COMP_WORDBREAKS" 2>/dev/null)
  read -r kind endings <<<"${lines[0]}"
  for line in "${lines[@]:1}"; do words+=("${line%% | *}"); done
  COMPREPLY=("${words[@]}")
  case ${#words[@]}:${words[0]} in 1:*[=:]) compopt -o nospace ;; esac
  [ "$kind" = files ] || [ "$kind" = folders ] || return 0
  compopt -o filenames
  word=${COMP_WORDS[COMP_CWORD]}
  case $word in [=:]) word= ;; [\'\"]*) word=${word:1} ;; esac
  while IFS= read -r line; do COMPREPLY+=("$line"); done < <(compgen -d -- "$word")
  [ "$kind" = files ] || return 0
  for ending in $endings; do
    while IFS= read -r line; do
      [ -d "$line" ] || COMPREPLY+=("$line")
    done < <(compgen -f -X "!*$ending" -- "$word")
  done
  [ -n "$endings" ] || while IFS= read -r line; do
    [ -d "$line" ] || COMPREPLY+=("$line")
  done < <(compgen -f -- "$word")
}
complete -F _wavicon_words wavicon
)shell";

constexpr const char* kZsh = R"shell(#compdef wavicon
# zsh: finishes what is typed behind wavicon; a file _wavicon in a folder of fpath, or
#   eval "$(wavicon completion zsh)"
_wavicon() {
  local -a lines offered shown open open_shown
  local line word pattern kind
  integer width=0
  lines=("${(@f)$(wavicon completion --words -- "${(@Q)words[2,CURRENT-1]}" "${(Q)PREFIX}" 2>/dev/null)}")
  pattern=${${lines[1]#files}//( ##.)/|}
  kind=${lines[1]%% *}
  shift lines
  for line in "${(@)lines}"; do
    word=${line%% \| *}
    (( ${#word} > width )) && width=${#word}
  done
  for line in "${(@)lines}"; do
    word=${line%% \| *}
    [[ -n $word ]] || continue
    if [[ $word == *[=:] ]]; then
      open+=("$word")
      open_shown+=("${(r:width:)word}  ${line#* \| }")
    else
      offered+=("$word")
      shown+=("${(r:width:)word}  ${line#* \| }")
    fi
  done
  (( ${#offered} )) && compadd -l -d shown -a offered
  (( ${#open} )) && compadd -S '' -l -d open_shown -a open
  case $kind in
    folders) _files -/ ;;
    files)
      if [[ -n $pattern ]]; then
        _files -g "*.(${pattern#|})(-.)"
      else
        _files
      fi ;;
  esac
}
if [[ $funcstack[1] == _wavicon ]]; then
  _wavicon "$@"
else
  (( $+functions[compdef] )) || { autoload -Uz compinit && compinit -D }
  compdef _wavicon wavicon
fi
)shell";

constexpr const char* kFish = R"shell(# fish: finishes what is typed behind wavicon.
#   wavicon completion fish | source
function __wavicon_words
  set -l typed (commandline -opc)
  set -e typed[1]
  set -l word (string trim -l -c "'\"" -- (commandline -ct))
  set -l lines (wavicon completion --words -- $typed "$word" 2>/dev/null)
  string replace ' | ' \t -- $lines[2..]
  set -l kind (string split ' ' -- $lines[1])
  switch $kind[1]
    case folders
      __fish_complete_directories $word ''
    case files
      set -l endings (string join '|' (string replace . '\\.' -- $kind[2..]))
      test -n "$endings"; or set endings '.*'
      __fish_complete_path $word | string match -r "^[^\t]*(?:/|$endings)(?:\t.*)?\$"
  end
end
complete -c wavicon -f -a '(__wavicon_words)'
)shell";

}  // namespace

std::string completion_script(const std::string& shell) {
  return shell == "bash" ? kBash : shell == "zsh" ? kZsh : shell == "fish" ? kFish : "";
}

}  // namespace wavicon::cli
