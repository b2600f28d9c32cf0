#!/usr/bin/env python3
"""Does what `truepath build --to json` says, call by call. The document comes on standard input."""
import glob, json, os, shutil, subprocess, sys

done, calls = set(), json.load(sys.stdin)["calls"]
for call in calls:
    # The end makes what the others left, whatever became of them.
    if call["kind"] != "end" and not done.issuperset(call["needs"]):
        continue
    for folder in call["stage"]:
        shutil.rmtree(folder, ignore_errors=True)
    for folder in call["stage"] + call["folders"]:
        os.makedirs(folder, exist_ok=True)
    for file in call.get("files", []):
        os.makedirs(os.path.dirname(file["path"]), exist_ok=True)
        with open(file["path"], "w", encoding="utf-8", newline="") as written:
            written.write(file["text"])
    with open(call["log"], "w") as log:
        ended = subprocess.run([call["program"], *call["arguments"]], cwd=call["folder"],
                               env={**os.environ, **call["env"]}, stdout=log, stderr=log)
    for land in call["lands"] if ended.returncode in call["ok"] else []:
        names = [glob.escape(name).replace("[*]", "*") for name in [land["from"], *land.get("or", [])]]
        there = [path for name in names for path in glob.glob(name)]
        if there:
            os.replace(there[0], land["to"])
    if ended.returncode in call["ok"] and all(os.path.exists(land["to"]) for land in call["lands"]):
        done.add(call["id"])
    [shutil.rmtree(folder, ignore_errors=True) for folder in call["stage"]]
left = [call["id"] for call in calls if call["id"] not in done]
if left:
    print("not done:", *left, file=sys.stderr)
sys.exit(3 if left else 0)
