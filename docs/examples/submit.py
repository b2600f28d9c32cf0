#!/usr/bin/env python3
"""Puts calls into a queue with dependencies, here that of Slurm: truepath build --guarded --through docs/examples/submit.py"""
import json, os, shlex, subprocess, sys

numbers = {}
for call in json.load(sys.stdin)["calls"]:
    for folder in call["folders"]:
        os.makedirs(folder, exist_ok=True)
    words = ["sbatch", "--parsable", "--job-name=" + call["id"], "--output=" + call["log"], "--chdir=" + call["folder"]]
    before = [numbers[id] for id in call["needs"]]
    if before:
        # Whatever became of them: a call makes what it lacks, and the last one what all of them left.
        words.append("--dependency=afterany:" + ":".join(before))
    # What a queue keeps as text has to be quoted for the shell that reads it.
    command = shlex.join([call["program"], *call["arguments"]])
    environment = {**os.environ, **call["env"]}
    made = subprocess.run([*words, "--wrap", command], env=environment, check=True, capture_output=True, text=True)
    numbers[call["id"]] = made.stdout.strip().split(";")[0]
print(len(numbers), "calls submitted")
