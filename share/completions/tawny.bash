# bash completion for tawny
_tawny()
{
    local current=${COMP_WORDS[COMP_CWORD]} words
    COMPREPLY=()
    if [ "$COMP_CWORD" -eq 1 ]; then
        words="demo init look check settings rehearse tune sightings reel plan send outbox account backup restore gather status arm disarm trigger snap watch --help --version"
    else
        case ${COMP_WORDS[1]} in
        demo) words="--help --keep --render --size --fps --seed " ;;
        init) words="--help --source --camera --store --size --page --output " ;;
        look) words="--help --output --overlay --after --settings --set --json " ;;
        check) words="--help --cameras --network --at --user --settings --set --json " ;;
        settings) words="--help --reference --help-texts --changed --write --whole --settings --set --json " ;;
        rehearse) words="--help --camera --keep --why --why-not --truth --plot --sheet --as-live --trace --settings --set --json " ;;
        tune) words="--help --camera --truth --nothing-in --something-in --walk --worth --marked --store --day --draw --plot --write --settings --set --json " ;;
        sightings) words="--help --store --camera --day --least-mb --hours --larger --smaller --marked --marked-as --name --count --note --starred --newest --star --unstar --mark --missed --not-missed --delete --send --found --zip --rebuild --csv --pattern --camtrap --trace --values --happened --settings --set --json " ;;
        reel) words="--help --store --camera --day --stills --clips --fps --speed --width --quality --caption --settings --set --json " ;;
        plan) words="--help --store --card --camera --settings --set --json " ;;
        send) words="--help --quiet --settings --set --json " ;;
        outbox) words="--help --list --retry --drop --store --settings --set --json " ;;
        account) words="--help --may --cameras --settings --set --json " ;;
        backup) words="--help --captures --settings --set --json " ;;
        restore) words="--help --store --keep-settings --settings --set --json " ;;
        gather) words="--help --stations --sightings --last --station --group --named --camtrap --pattern --media --access --key --settings --set --json " ;;
        status) words="--help --settings --set --json " ;;
        arm) words="--help --for --as-set --settings --set --json " ;;
        disarm) words="--help --for --as-set --settings --set --json " ;;
        trigger) words="--help --settings --set --json " ;;
        snap) words="--help --settings --set --json " ;;
        watch) words="--help --report --settings --set --json " ;;
        *) words= ;;
        esac
        [[ $current == -* ]] || { COMPREPLY=($(compgen -f -- "$current")); return; }
    fi
    COMPREPLY=($(compgen -W "$words" -- "$current"))
}
complete -o filenames -F _tawny tawny
