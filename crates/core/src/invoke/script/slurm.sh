
role=${TRUEPATH_ROLE:-start}
journals=${slurm_logs%/*/*}/journal
# A submission names, counts and cancels the jobs that it made, and no others.
host=$(uname -n | tr -cd 'A-Za-z0-9.-')
submission=${TRUEPATH_SUBMISSION:-$host-$(date +%s)-$$}
ids=$slurm_logs/$submission.jobs
tries=$slurm_logs/$submission.tries
# A percent sign in the name of a log would begin a pattern.
logs_for_slurm=$(printf '%s' "$slurm_logs" | sed 's/%/%%/g')
in_json() { printf '%s' "$1" | tr -cd 'A-Za-z0-9._-'; }
task=
[ -z "${SLURM_JOB_ID-}" ] || task="\"task\":{\"id\":\"${SLURM_ARRAY_JOB_ID:-$SLURM_JOB_ID}${SLURM_ARRAY_TASK_ID:+_$SLURM_ARRAY_TASK_ID}\",\"name\":\"$name\",\"node\":\"$(in_json "${SLURMD_NODENAME-}")\"},"

# submit_last FACTOR DEPENDENCY: submits the task that ends the plan.
submit_last() {
  submit "$1" --dependency="$2" --output="$logs_for_slurm/last.log" --export=ALL,TRUEPATH_ROLE=last
}

# under_way: the jobs of earlier submissions of this very plan that are not over.
under_way() {
  for file in "$slurm_logs"/*.jobs; do
    [ -f "$file" ] && head -n 1 -- "$file" | grep -qx "plan $plan" || continue
    squeue --noheader --format=%A | sort -u | grep -xFf "$file"
  done
}

# take_back: what was submitted so far is cancelled again.
take_back() {
  tail -n +2 -- "$ids" | while read -r id; do scancel "$id"; done
  exit 4
}

# submit_all: the exports, then the tasks, then the task that ends the plan.
submit_all() {
  mkdir -p -- "$slurm_logs" || exit 4
  busy=$(under_way | tr '\n' ' ')
  if [ -n "$busy" ]; then
    echo "this plan is being rendered: jobs ${busy% }. Wait for them, or end them first: scancel ${busy% }" >&2
    exit 4
  fi
  : >"$tries"
  echo "plan $plan" >"$ids"
  # What is exported is shared by these tasks and by no others.
  export TRUEPATH_SUBMISSION="$submission" TRUEPATH_PRODUCTS="script-tasks-$submission"
  before=
  if [ "$has_first" = yes ]; then
    first=$(submit 1 --output="$logs_for_slurm/first.log" --export=ALL,TRUEPATH_ROLE=first) || exit 4
    before=--dependency=afterany:$first
    echo "what comes before the first frame: job $first"
  fi
  array=$(submit 1 ${before:+"$before"} --array="1-$tasks$at_once" --output="$logs_for_slurm/part-%a.log" --export=ALL,TRUEPATH_ROLE=part) || take_back
  last=$(submit_last 1 "afterany:$array") || take_back
  submit_last 2 "afternotok:$last" >/dev/null
  echo "$tasks tasks: job $array"
  echo "the end of the plan: job $last"
  echo "what they say: $slurm_logs"
}

# pass_on: waits for what was started last, and hands on to it that the time is nearly over: once, so that it can finish its
# frame, and once more, so that it ends.
pass_on() {
  rendering=$!
  trap 'kill -TERM "$rendering" 2>/dev/null; (sleep 20; kill -TERM "$rendering") 2>/dev/null &' TERM INT
  while :; do
    code=0
    wait "$rendering" || code=$?
    # A signal ends the waiting, not what is waited for.
    kill -0 "$rendering" 2>/dev/null || break
  done
  trap - TERM INT
}

# landed: how many files the journals say have landed.
landed() { cat -- "$journals"/*.jsonl 2>/dev/null | grep -c '"event":"landed"'; }

# successors: the tasks that go on if this one is cut short, the last one first.
successors() { squeue --noheader --states=PENDING --format=%i | grep -xFf "$ids" | grep -vx "$SLURM_JOB_ID" | sort -rn; }

# free_the_end: where only held tasks of this array are left, they are cancelled: the end of the plan renders what they have not.
free_the_end() {
  [ -n "${SLURM_ARRAY_JOB_ID-}" ] || return 0
  left=$(squeue --noheader --array --jobs="$SLURM_ARRAY_JOB_ID" --format='%i %r' | grep -v "^${SLURM_ARRAY_JOB_ID}_${SLURM_ARRAY_TASK_ID} ")
  if [ -z "$left" ] || echo "$left" | grep -qvi held; then return 0; fi
  echo "$left" | while read -r id why; do
    echo "$id is held ($why) and keeps the end waiting: it is cancelled"
    scancel "$id"
  done
}

# succeed: sees to it that two tasks wait to go on if this one is cut short, since the next may be cut short before it comes to
# this line. They get more time and memory. After four tries that began with the same files, no other is added.
succeed() {
  landed >>"$tries"
  count=$(($(wc -l <"$tries")))
  if [ "$count" -ge 4 ] && [ "$(($(tail -n 4 "$tries" | uniq | wc -l)))" -eq 1 ]; then
    echo "the last tries made nothing; this is the last one"
    return
  fi
  factor=2
  [ "$count" -lt 2 ] || factor=4
  waiting=$(successors)
  before=$(echo "$waiting" | sed -n 1p)
  before=${before:-$SLURM_JOB_ID}
  for missing in 1 2; do
    [ "$missing" -gt "$(($(echo "$waiting" | grep -c .)))" ] || continue
    # No node may have so much memory, and no partition so much time.
    after=$(submit_last "$factor" "afternotok:$before" 2>/dev/null) || after=$(submit_last 1 "afternotok:$before") || return
    before=$after
  done
}

# conclude: complete or hopeless: then nothing follows.
conclude() {
  case $code in
    0 | 3) for id in $(successors); do scancel "$id"; done ;;
  esac
  [ "$code" -ne 3 ] || echo "given up: \`truepath status\` and \`truepath log\` tell why"
  exit "$code"
}

[ "$role" != start ] || { submit_all; exit; }
