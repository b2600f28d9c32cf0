[ -z "${ZSH_VERSION-}" ] || emulate sh
set -u
PATH=${PATH:-/usr/local/bin:/usr/bin:/bin}
export PATH
again=no
for word do
  case $word in
    --again) again=yes ;;
    *) echo "usage: $0 [--again]" >&2; exit 2 ;;
  esac
done
host=$(uname -n | tr -cd 'A-Za-z0-9._-')
began=$(date +%s)
start=script-$host-$$-$began
journals=${logs%/*}/journal
journal=$journals/$host-$began-$$.jsonl
# In lists of files each has a line, with tabs between its parts.
tab=$(printf '\t') line='
'
failed=0 at=0 there=0 made=0 missing= missed= stopped=no stage= was= interrupted=no all_left= pipe= pipe_in=
# The call that runs ends first, and what it has finished lands.
trap 'interrupted=yes' INT TERM HUP

# tell LINE: writes a line into the journal, which begins with who writes it.
tell() {
  if [ ! -e "$journal" ]; then
    mkdir -p -- "$journals" || exit 4
    last=$(sed -n 's/^{"event":"began","truepath":1,"turn":\([0-9]*\),.*/\1/p' "$journals"/*.jsonl 2>/dev/null | sort -n | tail -n 1)
    [ "${last:-0}" -lt "$turn" ] || turn=$((last + 1))
    printf '%s\n%s\n' "@began@" "$series" >"$journal" || exit 4
  fi
  printf '%s\n' "$1" >>"$journal" || exit 4
}

# clear_after_the_dead STAGES...: the files of this call are there: what starts on this machine that have ended left of it goes.
clear_after_the_dead() {
  for stages do
    for old in "$stages/script-$host-"*/"$id"; do
      of=${old%/*} process=${old##*"/script-$host-"}
      if [ -d "$old" ] && ! kill -0 "${process%%-*}" 2>/dev/null; then
        rm -rf -- "$old"
        rmdir -- "$of" 2>/dev/null
      fi
    done
  done
}

# wanted ID JOB SERIES FRAMES: begins a call; true where any of its files is missing.
wanted() {
  heed
  at=$((at + 1))
  id=$1 job=$2 in_series=$3 frames=$4
  # Another start of this script may make the same call: each has its own log.
  log=$logs/$id~$start.log
  log_in_json=logs/$id~$start.log
  doing=look absent=0 landed=0 pause=1
  files
  if [ "$again" = no ] && [ "$absent" -eq 0 ]; then
    echo "[$at of $total] $id: already there"
    forget
    return 1
  fi
  echo "[$at of $total] $id"
}

# heed: ends the script where somebody has interrupted it.
heed() {
  [ "$interrupted" = no ] || { failed=130; stopped=yes; finish; }
}

# enter STAGE...: makes fresh folders that the call writes to; files are looked for in the last one.
enter() {
  rm -rf -- "$@"
  mkdir -p -- "$@" || exit 4
  for stage in "$@"; do :; done
}

# put FILE TEXT: writes a file for a program that takes a file in place of arguments.
put() {
  mkdir -p -- "${1%/*}" && printf '%s' "$2" >"$1" || exit 4
}

# as_LANGUAGE PATH: a path as it is written between the quotes of a literal.
as_json() { printf '%s' "$1" | sed 's/[\\"]/\\&/g'; }
as_python() { as_json "$1"; }
as_lua() { as_json "$1"; }
as_xml() { printf '%s' "$1" | sed -e 's/&/\&amp;/g' -e 's/</\&lt;/g' -e 's/>/\&gt;/g' -e 's/"/\&quot;/g' -e "s/'/\\&apos;/g"; }
as_shell() { printf '%s' "$1" | sed "s/'/'\\\\''/g"; }
as_none() { printf '%s' "$1"; }

# within FOLDER PROGRAM ARGUMENTS...: runs a program there.
within() (
  cd -- "$1" || exit 4
  shift
  exec "$@"
)

# aside: takes away what a program writes beside its pictures; a call that has such files says how.
aside() { :; }

# keep FOLDER FILE...: keeps what a program wrote beside its pictures.
keep() {
  kept_in=$1
  shift
  for beside in "$@"; do
    [ -f "$beside" ] || continue
    mkdir -p -- "$kept_in" && mv -f -- "$beside" "$kept_in/"
  done
}

# open_pipe: a pipe through which logs go that are kept up to a limit; where there can be none, they are kept whole.
open_pipe() {
  [ -z "$pipe" ] || return 0
  pipe=none
  pipe_in=$(mktemp -d 2>/dev/null) || { pipe_in=; return 0; }
  mkfifo -- "$pipe_in/log" 2>/dev/null && pipe=$pipe_in/log
}

# keep_end: reads the pipe, and keeps of what the log has no room for the end.
keep_end() {
  head -c "$log_half" >/dev/null
  tail -c "$log_half" >"$log.end"
}

# join_log: the beginning of a log and its end, each up to half of the limit.
join_log() {
  if [ -s "$log.end" ]; then
    {
      head -c "$log_half" -- "$log"
      [ "$(($(wc -c <"$log.end")))" -lt "$log_half" ] || printf '\n... bytes are left out here ...\n'
      cat -- "$log.end"
    } >"$log.new" && mv -f -- "$log.new" "$log"
  fi
  rm -f -- "$log.end"
}

# call PROGRAM ARGUMENTS...: runs a program, its output to the log and to the screen. An interrupt is for the program: what
# hears it goes on until it has ended. Each line is in the log at once: a script that is killed has it there.
call() {
  open_pipe
  keeper= room=unlimited onward=/dev/null
  if [ "$pipe" != none ]; then
    room=$((log_half / 512 + 1)) onward=$pipe
    (trap '' INT TERM HUP; keep_end <"$pipe") &
    keeper=$!
  fi
  { trap : INT TERM HUP; "$@" 2>&1; echo $? >"$log.code"; } |
    (trap '' INT TERM HUP XFSZ; ulimit -f "$room" 2>/dev/null; exec tee -- "$log" 2>/dev/null) |
    (trap '' INT TERM HUP; exec tee -- "$onward")
  while [ -n "$keeper" ] && kill -0 "$keeper" 2>/dev/null; do wait "$keeper"; done
  join_log
  code=4
  read -r code <"$log.code" || code=4
  rm -f -- "$log.code"
}

# ask SERIES PROGRAM ARGUMENTS...: writes down what a renderer says of its version, here where it renders.
ask() {
  of_series=$1
  shift
  ! command -v timeout >/dev/null 2>&1 || set -- timeout 10 "$@"
  version=$("$@" 2>&1 </dev/null | LC_ALL=C tr -d '\000-\010\013-\037' | sed -n '/[^[:space:]]/{s/^[[:space:]]*//;s/[[:space:]]*$//;p;q;}')
  [ -z "$version" ] || tell "@version@"
}

# render PROGRAM ARGUMENTS...: runs a renderer, and tells from exit code and log which files are finished: all, or those that
# the log names. Where a program says what it wrote, nothing else is.
render() {
  since=$(date +%s)
  tell "@started@"
  call "$@"
  trust=named said=
  if [ -n "$wrote" ]; then
    said=$(grep -E -- "$wrote" "$log")
  else
    case " $ok " in *" $code "*) trust=all ;; esac
  fi
  [ -z "$finished" ] || grep -Eq -- "$finished" "$log" || trust=named
  [ -z "$fatal" ] || ! grep -Eq -- "$fatal" "$log" || trust=named
}

# done_with STAGE...: lands what came out. True where no licence was free: then the call is made again after a pause.
done_with() {
  doing=land absent=0 lost= left_in=
  files
  aside
  for stage in "$@"; do
    rm -rf -- "$stage/.written"
    rmdir -- "$stage"/*/ "$stage" 2>/dev/null
  done
  over=$(date +%s)
  case " $ok " in *" $code "*) well=true ;; *) well=false ;; esac
  tell "@ended@"
  if [ "$landed" -eq 0 ] && [ "$interrupted" = no ] && [ -n "$wait" ] && grep -Eq -- "$wait" "$log"; then
    echo "no licence is free; again in $pause s" >&2
    sleep "$pause"
    pause=$((pause * 2))
    [ "$pause" -le 60 ] || pause=60
    missed=
    heed
    return 0
  fi
  there=$((there + landed)) made=$((made + landed))
  missing=$missing$missed
  missed=
  [ -z "$left_in" ] || all_left="$all_left
  $left_in"
  heed
  if [ "$absent" -gt 0 ]; then
    tell "@failed@"
    echo "failed with exit code $code, $absent missing: see $log" >&2
    fail 3
  elif [ "$well" = false ]; then
    echo "note: all files are there, and the exit code was $code: see $log" >&2
  fi
  [ "$absent" -gt 0 ] || forget
  return 1
}

# fail CODE: something did not come out; the script goes on or ends.
fail() {
  failed=$1
  [ "$go_on" = yes ] || { stopped=yes; finish; }
}

# of SERIES TYPE [movie]: the files that follow are of this series; a movie has no frames.
of() { name=$1 type=$2 kind=${3-}; }

# was BYTES: a file of so many bytes under the next name is to be made again.
was() { was=$1; }

# file FRAME FINAL [STAGED...]: looks whether a file is there, or lands it: the first of these that is there and not empty.
# Without others it has its final name in the stage folder.
file() {
  frame=$1 final=$2
  shift 2
  old=$was was=
  [ $# -gt 0 ] || set -- "$stage/${final##*/}"
  if is_file "$final" && [ "$again" = no ] && { [ -z "$old" ] || [ "$(($(wc -c <"$final")))" -ne "$old" ]; }; then
    if [ "$doing" = look ]; then there=$((there + 1)); else rm -f -- "$@"; fi
    return
  fi
  if [ "$doing" = look ]; then
    absent=$((absent + 1))
    return
  fi
  for staged in "$@"; do
    is_file "$staged" || continue
    if [ "$trust" = all ] || is_named "$staged"; then
      land "$staged" "$final" "$frame" "$old"
    else
      left_in=${staged%/*}
      lose "$final" "$frame" "perhaps not finished, left in $staged"
    fi
    return
  done
  lose "$final" "$frame" "not written as a file"
}

# is_named STAGED: whether the log says that the file was written, by its name or by that and its folder.
is_named() {
  in=${1%/*}
  case " $said" in
    *[!A-Za-z0-9_.-]"${in##*/}/${1##*/}"* | *[!/A-Za-z0-9_.-]"${1##*/}"*) return 0 ;;
  esac
  return 1
}

# land STAGED FINAL FRAME BROKEN: gives a file its name, unless its end is missing. A file of so many bytes there is replaced.
land() {
  if { [ -e "$2" ] || [ -L "$2" ]; } && { [ ! -f "$2" ] || [ -L "$2" ]; }; then
    failed=4
    lose "$2" "$3" "a folder, a link or a device stands there, and stays; the frame is left in $1"
    return
  fi
  bytes=$(($(wc -c <"$1")))
  if ! is_whole "$1" "$type" "$bytes"; then
    lose "$2" "$3" "cut off, left in $1"
    return
  fi
  tell "@landed@"
  sum=
  [ "$sums" = no ] || sum=$(sum_of "$1")
  [ -z "$sum" ] || tell "@sum@"
  if [ "$again" = no ] && ln -- "$1" "$2" 2>/dev/null; then
    # A link is made only where there was no file before: of two scripts that render the same, one lands.
    rm -f -- "$1"
    landed=$((landed + 1))
  elif [ "$again" = no ] && is_file "$2" && [ "$(($(wc -c <"$2")))" -ne "${4:-0}" ]; then
    tell "@late@"
    rm -f -- "$1"
    there=$((there + 1))
  elif mv -f -- "$1" "$2"; then
    landed=$((landed + 1))
  else
    failed=4
    lose "$2" "$3" "cannot be moved there"
  fi
}

# sum_of FILE: its SHA-256 in hexadecimal, by whichever tool is here; nothing where there is none.
sum_of() {
  { sha256sum -- "$1" || shasum -a 256 -- "$1" || openssl dgst -sha256 -r "$1"; } 2>/dev/null |
    sed -n 's/^[^0-9a-f]*\([0-9a-f]\{64\}\).*/\1/p' | head -n 1
}

# is_file PATH: a regular file that holds something; a link is none.
is_file() { [ -f "$1" ] && [ ! -L "$1" ] && [ -s "$1" ]; }

# lose FINAL FRAME WHY: a file that did not come out.
lose() {
  echo "missing: $1: $3" >&2
  stands=0
  ! is_file "$1" || stands=$(($(wc -c <"$1")))
  missed=$missed$name$tab${kind:-$2}$tab$stands$tab$1$line
  absent=$((absent + 1))
  lost=${lost:+$lost,}$2
}

# sum_up: the series and frames that were lost and that nobody has brought since, in `listed`; how many they are in `count`.
sum_up() {
  listed= count=0 of_last= from= to=
  while IFS=$tab read -r own_name own_frame stands path; do
    [ -n "$path" ] || continue
    if is_file "$path" && [ "$(($(wc -c <"$path")))" -ne "$stands" ]; then
      there=$((there + 1))
      continue
    fi
    count=$((count + 1))
    own_name=${own_name#\"} own_name=${own_name%\"}
    if [ "$own_frame" = movie ]; then
      end_run
      listed=${listed:+$listed, }$own_name
      of_last=
    elif [ "$own_name" = "$of_last" ] && [ "$own_frame" -eq "$((to + 1))" ]; then
      to=$own_frame
    else
      end_run
      if [ "$own_name" = "$of_last" ]; then listed=$listed,; else listed="${listed:+$listed, }$own_name "; fi
      of_last=$own_name from=$own_frame to=$own_frame
    fi
  done <<END
$missing$missed
END
  end_run
}

# end_run: adds neighbouring frames to `listed`.
end_run() {
  case $from in
    '') ;;
    "$to") listed=$listed$from ;;
    *) listed=$listed$from-$to ;;
  esac
  from=
}

# is_whole FILE TYPE BYTES: false where the end that a file of this type must have is not there.
is_whole() {
  case $2 in
    png) [ "$(end_of "$1" 12)" = "00 00 00 00 49 45 4e 44 ae 42 60 82" ] ;;
    jpeg) [ "$(end_of "$1" 2)" = "ff d9" ] ;;
    bmp) [ "$(number_at "$1" 2)" -le "$3" ] ;;
    webp) [ "$(number_at "$1" 4)" -lt "$3" ] ;;
  esac
}

# end_of FILE BYTES: its last bytes in hexadecimal.
end_of() { set -- $(tail -c "$2" "$1" | od -An -v -tx1); echo "$*"; }

# number_at FILE OFFSET: a number of four bytes, the lowest first.
number_at() { set -- $(od -An -v -tu1 -j "$2" -N 4 "$1") 0 0 0 0; echo $(($1 + $2 * 256 + $3 * 65536 + $4 * 16777216)); }
