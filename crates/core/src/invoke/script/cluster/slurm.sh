
# What Slurm tells a task of itself: sbatch(1), "output environment variables".
own=${SLURM_ARRAY_JOB_ID:-${SLURM_JOB_ID-}} place=${SLURM_ARRAY_TASK_ID-} node=${SLURMD_NODENAME-}
between=_ cancels=scancel warnings=
# A percent sign in the name of a log would begin a pattern.
logs_of_tasks=$(printf '%s' "$task_logs" | sed 's/%/%%/g')

# submit_with ROLE FACTOR WHEN JOB OPTIONS...: submits this file in a role; it begins when another job has ended (`any`), or has
# not ended well (`failed`). The job's number comes back.
submit_with() {
  as=$1 factor=$2 when=$3 earlier=$4 log=$1.log
  shift 4
  [ -z "$minutes" ] || set -- --time="$((minutes * factor))" "$@"
  [ -z "$megabytes" ] || set -- --mem="$((megabytes * factor))M" "$@"
  case $when in
    any) set -- "$@" --dependency="afterany:$earlier" ;;
    failed) set -- "$@" --dependency="afternotok:$earlier" ;;
    later) set -- "$@" --begin=now+3600 ;;
  esac
  if [ "$as" = part ]; then
    set -- "$@" --array="1-$tasks${at_once:+%$at_once}"
    log=part-%a.log
  fi
  set -- --job-name="$(called "$as")" --requeue --open-mode=append --signal=B:TERM@30 "$@" --output="$logs_of_tasks/$log"
  id=$(sbatch --parsable "$@" --export="ALL,TRUEPATH_ROLE=$as" "$0") || return
  known "$as" "${id%%;*}"
}

# alive: the numbers of all jobs that are not over. waiting: of those that have not begun.
alive() { squeue --noheader --format=%A; }
waiting() { squeue --noheader --states=PENDING --format=%i; }
cancel() { scancel "$1"; }

# others_of_array: the other tasks of this array that are not over, each with the reason for which it waits.
others_of_array() { squeue --noheader --array --jobs="$own" --format='%i %r' | grep -v "^${own}_$place "; }

# deaf: only the script is told that its time is nearly over.
deaf() { :; }
