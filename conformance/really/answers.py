# SPDX-License-Identifier: MIT
"""Tables of scripts and what real loaders answered: "script" for each line of one, "leaves" for the answer. "<CR>" stands for a
carriage return, "<LF>" for a line's end within an answer."""


def plain(text):
    return text.replace("<CR>", "\r").replace("<LF>", "\n")


def marked(text):
    return text.replace("\r", "<CR>").replace("\n", "<LF>")


def read(table):
    """[script, answer] of each; a script's lines stand one below the other."""
    out, lines = [], []
    for line in table.read_text().split("\n"):
        if line.startswith("script "):
            lines.append(plain(line[7:]))
        elif line.startswith("leaves"):
            out.append(["\n".join(lines), plain(line[7:])])
            lines = []
    return out


def write(table, answers):
    """The same table with other answers; its head stays."""
    head = table.read_text().split("\nscript ", 1)[0]
    with open(table, "w") as file:
        file.write(head.rstrip("\n") + "\n")
        for script, answer in answers:
            file.write("\n" + "".join("script " + marked(line) + "\n" for line in script.split("\n")))
            file.write(("leaves " + marked(answer)).rstrip() + "\n")


def differ(table, answers, mine, writing):
    """Prints what differs, then the count; blanks at an answer's end are no part of a line of the table."""
    count = 0
    for (script, known), real, own in zip(table, answers, mine):
        if own.rstrip() != real.rstrip() or (known.rstrip() != real.rstrip() and not writing):
            count += 1
            print(f"{script!r}: really {real!r}, ours {own!r}, in the table {known!r}")
    print(f"{len(table) - count} of {len(table)} scripts agree")
    return 1 if count else 0
