# bash completion for herberge                                   SPDX-License-Identifier: MIT
_herberge() {
    local current=${COMP_WORDS[COMP_CWORD]} before=${COMP_WORDS[COMP_CWORD-1]}
    local commands="check systems startup layout sector entries variables files copy rehearse suppose mend apply symptom boards compare report demo"
    if [ "$COMP_CWORD" -eq 1 ]; then
        mapfile -t COMPREPLY < <(compgen -W "$commands --help --version" -- "$current")
        return
    fi
    case $before in
        --format) mapfile -t COMPREPLY < <(compgen -W "text json dot svg html markdown junit sarif" -- "$current"); return ;;
        --firmware) mapfile -t COMPREPLY < <(compgen -W "auto bios uefi uefi32" -- "$current"); return ;;
        --mode) mapfile -t COMPREPLY < <(compgen -W "normal safe safe-network safe-shell" -- "$current"); return ;;
        --until) mapfile -t COMPREPLY < <(compgen -W "boot-code boot-sector loader kernel" -- "$current"); return ;;
        --at | --in | --from) mapfile -t COMPREPLY < <(compgen -W "d1 d1p1 d1p2" -- "$current"); return ;;
    esac
    local options="--help"
    case ${COMP_WORDS[1]} in
        check) options="$options --format --firmware --variables --secure-boot --evidence --no-rehearsal --strict --stats --unlock --unreadable --optical" ;;
        systems) options="$options --format --firmware --variables --secure-boot --stats --unlock --unreadable --optical" ;;
        entries) options="$options --format --variables --stats --unlock --unreadable --optical --firmware" ;;
        startup) options="$options --format --stats --unlock --unreadable --optical --level --levels --mode" ;;
        layout) options="$options --format --stats --unlock --unreadable --optical" ;;
        sector) options="$options --format --stats --unlock --at --as --byte --count --kinds --boot-sectors --optical" ;;
        files) options="$options --format --stats --unlock --in" ;;
        rehearse) options="$options --format --stats --unlock --optical --keys --until --millions" ;;
        apply) options="$options --unlock --optical --patch --to --device-yes" ;;
        mend) options="$options --format --firmware --variables --secure-boot --stats --unlock --unreadable --optical --patch-to --undo-to --steps-to --variables-to --proposal --replace" ;;
        suppose) options="$options --format --firmware --variables --secure-boot --evidence --strict --stats --unlock --unreadable --optical --choose --keys --kernel --ramdisk --arguments --order --without --active --identifier --content --remove --patch --changes" ;;
        compare) options="$options --format --firmware --variables --secure-boot --stats --unlock --unreadable --optical --with --patch --variables-with" ;;
        report) options="$options --format --firmware --variables --secure-boot --stats --unlock --unreadable --optical --to --replace --hash --no-proposals --strict" ;;
        boards) options="$options --format --stats --unlock --unreadable --optical" ;;
        symptom) options="$options --format --firmware --variables --secure-boot --stats --unlock --unreadable --optical --seen --seen-in" ;;
        copy) options="$options --stats --unlock --from --to --replace" ;;
    esac
    case $current in
        -*) mapfile -t COMPREPLY < <(compgen -W "$options" -- "$current") ;;
        *) mapfile -t COMPREPLY < <(compgen -f -- "$current") ;;
    esac
}
complete -o filenames -F _herberge herberge
