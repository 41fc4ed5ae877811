# SPDX-License-Identifier: MIT
"""What `check` says of a disk, against how its start really ended."""
import json, pathlib, re, subprocess
from . import machine

# Agreement, an honest "cannot be told", and the ways to differ.
AGREES, UNKNOWN, MISS, FALSE_ALARM, WRONG_STAGE, WRONG_SCREEN, WRONG_ENTRY, FAILED = "agrees", "unknown", "miss", "false alarm", "wrong stage", "wrong screen", "wrong entry", "no answer"
DIFFERENT = (MISS, FALSE_ALARM, WRONG_STAGE, WRONG_SCREEN, WRONG_ENTRY, FAILED)


class Said:
    """The verdict on the disk's one system, or on what stands for it where it cannot be found any more."""

    def __init__(self, answer, place):
        systems = answer.get("systems", [])
        own = [s for s in systems if s.get("place") == place] or systems
        self.system = own[0] if own else None
        s = self.system or {}
        self.starts, self.stage, self.screen, self.entry = s.get("starts", "no system"), s.get("stops_at"), s.get("symptom"), s.get("entry")
        self.waits_for = s.get("waits_for")
        self.elsewhere = s.get("entry_is_default") is False and not self.waits_for
        self.unsure = {rung["stage"] for rung in s.get("stages", []) if rung["state"] == "unknown"}

    def __str__(self):
        return {"yes": "starts", "no": f"stops at {self.stage}"}.get(self.starts, self.starts)


def check(tool, image, firmware, variables, place, lost=()):
    """What the tool says; None and why, if it does not answer. `lost`: sectors that the disk refuses to give."""
    command = [tool, "check", "--format", "json", str(image), "--firmware", "bios" if firmware in machine.BIOS else "uefi"]
    if firmware in machine.DISCS:
        command.append("--optical")
    if firmware not in machine.BIOS:
        command += ["--variables", variables]
    if lost:
        command += ["--unreadable", str(image) + ".lost"]
        pathlib.Path(command[-1]).write_text("".join(f"{sector} 1\n" for sector in sorted(lost)))
    try:
        done = subprocess.run(command, capture_output=True, timeout=60)
    except subprocess.TimeoutExpired:
        return None, "no answer in a minute"
    if done.returncode not in (0, 1, 4):
        return None, f"exit status {done.returncode}: " + done.stderr.decode("utf-8", "replace").strip()[-200:]
    return Said(json.loads(done.stdout), place), None


def lines(text):
    """What a person reads of a text: words without the space between them, of each line that has any."""
    return [w for w in ("".join(re.sub(r"^\[ *\d+\.\d+\]", "", line).split()) for line in text.split("\n")) if len(w) > 1]


def on_screen(symptom, console):
    """Whether what is said to be seen is on the console. Remarks in brackets are not what it shows; of several lines the last
    counts, since those before it may have been wiped off."""
    # A kernel that is told to start anew at once (panic=-1) does not print the last line of its panic.
    symptom = re.sub(r"---\[ end (.*) \]---", r"\1", symptom)
    symptom = re.sub(r" \([^()\n]* [^()\n]*\)$", "", symptom, flags=re.M)
    wanted = [l for l in symptom.split("\n") if l.strip() and not re.fullmatch(r"\s*\(.*\)\s*", l)]
    if not wanted:
        return True
    last = lines(wanted[-1].rstrip("."))  # a machine that is reset may lose the last of what it wrote
    # "…" stands for what differs from machine to machine.
    return not last or re.search(".*".join(re.escape(part) for part in last[-1].split("…")), "".join(lines(console))) is not None


def judge(said, end, console, entries):
    """The way in which they agree or differ, and a sentence."""
    if said.starts == "unknown" or said.starts == "no system" and not end.starts:
        return (UNKNOWN if said.starts == "unknown" else AGREES), ""
    if end.starts:
        if said.starts != "yes":
            return FALSE_ALARM, f"it starts; said: {said}"
        word = entries.get(said.entry or "")
        if end.entry and word != end.entry:
            return WRONG_ENTRY, f"entry “{end.entry}” ran; said: {said.entry}"
        return AGREES, ""
    if end.waits and said.starts == "yes" and said.waits_for:
        return AGREES, ""  # somebody has to be there, and is said to be waited for
    if said.starts == "yes" and said.elsewhere:
        return UNKNOWN, ""  # an entry of the system's starts; nobody says so of what starts by itself
    if said.starts == "yes":
        return MISS, f"it {end} ({end.why}); said: it starts"
    if said.stage not in end.stages and said.unsure & set(end.stages):
        return UNKNOWN, ""  # it goes no further than it was said to, and perhaps not as far
    if said.stage not in end.stages:
        return WRONG_STAGE, f"it {end} ({end.why}); said: {said}"
    if said.screen and not on_screen(said.screen, console):
        return WRONG_SCREEN, f"said to be seen: {said.screen!r}"
    return AGREES, ""
