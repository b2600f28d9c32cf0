
# What Grid Engine tells a task of itself: qsub(1), "environmental variables".
own=${JOB_ID-} place=${SGE_TASK_ID-} node=${HOSTNAME-}
[ "$place" != undefined ] || place=
between=. cancels=qdel warnings='USR1 USR2'

# submit_with ROLE FACTOR WHEN JOB OPTIONS...: submits this file in a role; it begins when another job has ended, however that
# was: whoever has nothing to do ends at once. The job's number comes back.
submit_with() {
  as=$1 factor=$2 when=$3 earlier=$4 log=$1.log
  shift 4
  [ -z "$minutes" ] || set -- -l h_rt="$((minutes * 60 * factor))" "$@"
  [ -z "$megabytes" ] || set -- -l mem_free="$((megabytes * factor))M" "$@"
  case $when in
    '') ;;
    # Only the usual `date` can count an hour on.
    later) set -- "$@" -a "$(date -d '+1 hour' +%Y%m%d%H%M)" ;;
    *) set -- "$@" -hold_jid "$earlier" ;;
  esac
  if [ "$as" = part ]; then
    set -- "$@" -t "1-$tasks" ${at_once:+-tc "$at_once"}
    log='part-$TASK_ID.log'
  fi
  # A shell that is told of its end can tell what it has started; a call by itself would only be ended by that.
  [ "$guarded" = no ] || set -- -notify "$@"
  set -- -N "$(called "$as")" -S /bin/sh -r y -j y "$@" -o ":$task_logs/$log"
  id=$(qsub -terse "$@" -V -v "TRUEPATH_ROLE=$as" "$0" </dev/null) || return
  known "$as" "${id%%.*}"
}

# numbers: the first column of a listing.
numbers() { sed -n 's/^ *\([0-9][0-9]*\) .*/\1/p'; }

# alive: the numbers of all jobs that are not over. waiting: of those that have not begun.
alive() { qstat -u '*' | numbers; }
waiting() { qstat -u '*' -s p | numbers; }
cancel() { qdel "$1" >/dev/null; }

# others_of_array: the other tasks of this array that are not over, each with the reason for which it waits.
others_of_array() {
  qstat -u '*' -g d | while read -r id priority title user state rest; do
    [ "$id" = "$own" ] || continue
    for last in $rest; do :; done
    [ "$last" != "$place" ] || continue
    case $state in
      *E*) echo "$id.$last held after an error: $state" ;;
      *h*) echo "$id.$last held: $state" ;;
      *) echo "$id.$last $state" ;;
    esac
  done
}

# deaf: the whole group is told that its time is nearly over, and a program that does not know the signal would end.
deaf() { trap '' USR1 USR2; }
