
role=${TRUEPATH_ROLE:-start}
journals=${task_logs%/*/*}/journal
# A submission names, counts and cancels the jobs that it made, and no others.
host=$(uname -n | tr -cd 'A-Za-z0-9.-')
submission=${TRUEPATH_SUBMISSION:-$host-$(date +%s)-$$}
ids=$task_logs/$submission.jobs
tries=$task_logs/$submission.tries
watches=$task_logs/$submission.watch
in_json() { printf '%s' "$1" | tr -cd 'A-Za-z0-9._-'; }
task=
[ -z "$own" ] || task=",\"task\":{\"id\":\"$own${place:+$between$place}\",\"name\":\"$name\",\"node\":\"$(in_json "$node")\"}"

# under_way: the jobs of earlier submissions of this very plan that are not over.
under_way() {
  for file in "$task_logs"/*.jobs; do
    [ -f "$file" ] && head -n 1 -- "$file" | grep -qx "plan $plan" || continue
    alive | sort -u | grep -xFf "$file"
  done
}

# called ROLE: the name of a job. What only watches is no task of the plan.
called() { case $1 in watch) echo "$name-watch" ;; *) echo "$name" ;; esac; }

# known ROLE ID: a job of this submission. One that only watches is counted with no others.
known() {
  if [ "$1" = watch ]; then echo "$2" >>"$watches"; else echo "$2" | tee -a -- "$ids"; fi
}

# unwatch: cancels what watches.
unwatch() {
  [ ! -f "$watches" ] || while read -r id; do [ "$id" = "$own" ] || cancel "$id" 2>/dev/null; done <"$watches"
}

# take_back: what was submitted so far is cancelled again.
take_back() {
  tail -n +2 -- "$ids" | while read -r id; do cancel "$id"; done
  exit 4
}

# submit_all: the exports, then the tasks, then the task that ends the plan.
submit_all() {
  mkdir -p -- "$task_logs" || exit 4
  busy=$(under_way | tr '\n' ' ')
  if [ -n "$busy" ]; then
    echo "this plan is being rendered: jobs ${busy% }. Wait for them, or end them first: $cancels ${busy% }" >&2
    exit 4
  fi
  : >"$tries"
  echo "plan $plan" >"$ids"
  # What is exported is shared by these tasks and by no others.
  export TRUEPATH_SUBMISSION="$submission" TRUEPATH_PRODUCTS="script-tasks-$submission"
  when= before=
  if [ "$has_first" = yes ]; then
    before=$(submit first 1 "" "") || exit 4
    when=any
    echo "what comes before the first frame: job $before"
  fi
  array=$(submit part 1 "$when" "$before") || take_back
  last=$(submit last 1 any "$array") || take_back
  submit last 2 failed "$last" >/dev/null
  watch_later "$array"
  echo "$tasks tasks: job $array"
  echo "the end of the plan: job $last"
  echo "what they say: $task_logs"
}

# begin WORDS...: starts something that hears of the end of its time from this script alone.
begin() {
  (deaf; "$@") &
}

# pass_on: waits for what was started last, and hands on to it that the time is nearly over: once, so that it can finish its
# frame, and once more, so that it ends.
pass_on() {
  rendering=$!
  trap 'kill -TERM "$rendering" 2>/dev/null; (sleep 20; kill -TERM "$rendering") 2>/dev/null &' TERM INT $warnings
  while :; do
    code=0
    wait "$rendering" || code=$?
    # A signal ends the waiting, not what is waited for.
    kill -0 "$rendering" 2>/dev/null || break
  done
  trap - TERM INT $warnings
}

# landed: how many files the journals say have landed.
landed() { cat -- "$journals"/*.jsonl 2>/dev/null | grep -c '"event":"landed"'; }

# successors: the tasks that go on if this one is cut short, the last one first.
successors() { waiting | sort -u | grep -xFf "$ids" | grep -vx "$own" | sort -rn; }

# look_around: what is held of the other tasks of this array, and what is not over.
done_tasks=$task_logs/$submission.over
look_around() {
  around=$(others_of_array 2>/dev/null)
  held=$(echo "$around" | grep -i held)
  working=$(echo "$around" | grep . | grep -vi held | while read -r id why; do
    grep -qsxF "$id" "$done_tasks" || echo "$id"
  done)
}

# cancel_held: the end of the plan renders what held tasks have not.
cancel_held() {
  echo "$held" | while read -r id why; do
    echo "$id is held ($why) and keeps the end waiting: it is cancelled"
    cancel "$id"
  done
}

# free_the_end: where only held tasks of this array are left, they are cancelled.
free_the_end() {
  [ -n "$place" ] || return 0
  # Two tasks that end at one moment are both still listed: each has said before that it is over.
  echo "$own$between$place" >>"$done_tasks"
  look_around
  if [ -n "$held" ] && [ -z "$working" ]; then cancel_held; fi
}

# watch_later ARRAY: looks at the tasks of an array in an hour. Where the scheduler holds the last of them, none is left that could
# free the end. A cluster that takes no such job goes without.
watch_later() {
  TRUEPATH_ARRAY=$1
  export TRUEPATH_ARRAY
  submit watch 1 later "" >/dev/null 2>&1 || :
}

# watch: frees the end where only held tasks are left, and looks again later while others work.
watch() {
  array=${TRUEPATH_ARRAY-} watcher=$own own=${TRUEPATH_ARRAY-} place=none
  [ -n "$array" ] || return 0
  look_around
  own=$watcher
  if [ -n "$working" ]; then
    watch_later "$array"
  elif [ -n "$held" ]; then
    cancel_held
  fi
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
  before=${before:-$own}
  for nth in 1 2; do
    [ "$nth" -gt "$(($(echo "$waiting" | grep -c .)))" ] || continue
    # No node may have so much memory, and no partition so much time.
    after=$(submit last "$factor" failed "$before" 2>/dev/null) || after=$(submit last 1 failed "$before") || return
    before=$after
  done
}

# conclude: complete or hopeless: then nothing follows.
conclude() {
  case $code in
    0 | 3)
      for id in $(successors); do cancel "$id"; done
      unwatch ;;
  esac
  exit "$code"
}

case $role in
  start) submit_all; exit ;;
  watch) watch; exit 0 ;;
esac
