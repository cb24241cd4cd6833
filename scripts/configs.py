#!/usr/bin/env python3
"""Config edits, checked by parsers that are not ours, with a program in between.

Every case of crates/yard-twin/tests/configs is set in a twin by the real command; then a program has its way with the file
(writes it anew, turns its order round, indents it, ends its lines otherwise, takes the key out, empties or deletes it); then
the edits are taken out of the profile. What is there then must mean what was there before, to Python's parsers, or be left
exactly as the program made it, and be named.

    configs.py YARDTWIN [--show]
"""

import configparser
import io
import json
import os
import re
import subprocess
import sys
import tempfile
import tomllib
import xml.etree.ElementTree as ElementTree
from pathlib import Path

CONFIGS = Path(__file__).resolve().parent.parent / "crates/yard-twin/tests/configs"
TOP = "\0top"


# Each format: what a text means, as a sorted list of places and values, and the same thing written anew.

def read_ini(text):
    parser = configparser.RawConfigParser(
        strict=False, allow_no_value=True, default_section="\0none", comment_prefixes=("#", ";", "//")
    )
    # This parser knows no line end that is a carriage return alone.
    parser.read_string(f"[{TOP}]\n" + text.replace("\r\n", "\n").replace("\r", "\n"))
    return parser


def mean_ini(text):
    parser = read_ini(text)
    places = [(section.lower(), key, parser.get(section, key)) for section in parser.sections() for key in parser[section]]
    return sorted((section, key, value and plain(value)) for section, key, value in places) + sorted(
        section.lower() for section in parser.sections()
    )


def plain(value):
    value = value.strip()
    return value[1:-1] if len(value) > 1 and value[0] == value[-1] and value[0] in "\"'" else value


def write_ini(text, turned):
    parser = read_ini(text)
    sections = parser.sections()[1:]
    out = []
    for section in [TOP] + (sections[::-1] if turned else sections):
        out += [] if section == TOP else [f"[{section}]"]
        keys = list(parser[section])
        for key in keys[::-1] if turned else keys:
            value = parser.get(section, key)
            out.append(key if value is None else f"{key}={value}".replace("\n", "\n\t"))
    return "\n".join(out) + "\n"


def mean_json(text):
    return sorted(leaves(json.loads(text), ()), key=repr)


def leaves(value, path):
    if isinstance(value, (dict, list)) and value:
        for key, inner in value.items() if isinstance(value, dict) else enumerate(value):
            yield from leaves(inner, path + (key,))
    else:
        yield path, repr(value)


def turn(value):
    return {key: turn(inner) for key, inner in reversed(value.items())} if isinstance(value, dict) else value


def write_json(text, turned):
    value = json.loads(text)
    return json.dumps(turn(value) if turned else value, indent=3)


def mean_toml(text):
    return sorted(leaves(tomllib.loads(text), ()), key=repr)


def toml_value(value):
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, str):
        return json.dumps(value, ensure_ascii=False)
    if isinstance(value, list):
        return "[ " + ", ".join(map(toml_value, value)) + " ]"
    if isinstance(value, dict):
        return "{ " + ", ".join(f"{json.dumps(key)} = {toml_value(inner)}" for key, inner in value.items()) + " }"
    return str(value)


def write_toml(text, turned):
    out = []

    def table(value, path):
        is_tables = lambda inner: isinstance(inner, list) and inner and all(isinstance(one, dict) for one in inner)
        pairs = list(value.items())[:: -1 if turned else 1]
        for key, inner in pairs:
            if not isinstance(inner, dict) and not is_tables(inner):
                out.append(f"{json.dumps(key, ensure_ascii=False)}   =   {toml_value(inner)}")
        for key, inner in pairs:
            header = ".".join(json.dumps(part, ensure_ascii=False) for part in path + (key,))
            if isinstance(inner, dict):
                out.append(f"[{header}]")
                table(inner, path + (key,))
            elif is_tables(inner):
                for one in inner:
                    out.append(f"[[{header}]]")
                    table(one, path + (key,))

    table(tomllib.loads(text), ())
    return "\n".join(out) + "\n"


def mean_xml(text):
    found = []

    def element(node, path):
        found.extend((path, key, value) for key, value in node.attrib.items())
        inner = list(node)
        if not inner:
            found.append((path, "", (node.text or "").strip()))
        for child in inner:
            element(child, path + (child.tag,))

    # Comments part a text in two for this parser only.
    element(ElementTree.fromstring(re.sub(r"^\s*<\?xml[^>]*\?>", "", text)), ())
    return sorted(found)


def write_xml(text, turned):
    if "<!ENTITY" in text:
        # This parser drops a document's own entities, and what refers to them with it.
        return text
    root = ElementTree.fromstring(re.sub(r"^\s*<\?xml[^>]*\?>", "", text))
    if turned:
        for node in root.iter():
            names = [child.tag for child in node]
            # Of several of one name, the order is what tells them apart.
            if len(set(names)) == len(names):
                node[:] = reversed(node[:])
    else:
        ElementTree.indent(root, "\t")
    return ElementTree.tostring(root, encoding="unicode")


def mean_properties(text):
    text = re.sub(r"\\(?:\r\n|\n|\r)[ \t\f]*", "", text)
    found = {}
    for line in re.split(r"\r\n|\n|\r", text):
        line = line.lstrip(" \t\f")
        if line and line[0] not in "#!":
            key, value = re.fullmatch(r"((?:\\.|[^\\=: \t\f])*)[ \t\f]*[=:]?[ \t\f]*(.*)", line).groups()
            found[unescape(key)] = unescape(value)
    return sorted(found.items())


def unescape(raw):
    known = {"t": "\t", "n": "\n", "r": "\r", "f": "\f"}
    char = lambda found: chr(int(found[1], 16)) if found[1] else known.get(found[2], found[2])
    return re.sub(r"\\(?:u([0-9A-Fa-f]{4})|(.))", char, raw).encode("utf-16", "surrogatepass").decode("utf-16", "replace")


def write_properties(text, turned):
    escape = lambda raw: "".join(
        char if " " < char < "\x7f" and char not in "\\=:#!" else
        "".join(f"\\u{int.from_bytes(unit, 'big'):04x}" for unit in units(char)) for char in raw
    )
    pairs = mean_properties(text)[:: -1 if turned else 1]
    return "#written\n" + "".join(f"{escape(key)}={escape(value)}\n" for key, value in pairs)


def units(char):
    coded = char.encode("utf-16-be")
    return [coded[at : at + 2] for at in range(0, len(coded), 2)]


def mean_lines(text):
    return sorted(" ".join(line.split()) for line in text.splitlines() if line.strip())


def write_lines(text, turned):
    lines = [line.strip() for line in text.splitlines() if line.strip()]
    return "\n".join(lines[::-1] if turned and len(set(lines)) == len(lines) and not repeated(lines) else lines) + "\n"


def repeated(lines):
    firsts = [line.split()[0] for line in lines]
    return len(set(firsts)) < len(firsts)


FORMATS = {
    name: (globals()[f"mean_{name}"], globals()[f"write_{name}"])
    for name in ("ini", "json", "toml", "xml", "properties", "lines")
}


# What a program does to a file that has been edited.

def anew(text, case):
    return FORMATS[case["format"]][1](text, False)


def turned(text, case):
    return FORMATS[case["format"]][1](text, True)


def indented(text, case):
    if case["format"] in ("ini", "properties") and re.search(r"^[ \t]|\\$", text, re.M):
        return text
    return re.sub(r"^(?=.)", "  ", text, flags=re.M) if '"""' not in text else text


def other_ends(text, case):
    text = text.replace("\r\n", "\n").replace("\r", "\n")
    return text if "\r" in case["text"] else text.replace("\n", "\r\n")


def key_gone(text, case):
    return case["text"] if case["was"] is None else None


MEANWHILE = {
    "untouched": lambda text, case: text,
    "anew": anew,
    "turned": turned,
    "indented": indented,
    "other ends": other_ends,
    "key gone": key_gone,
    "emptied": lambda text, case: "",
    "deleted": lambda text, case: None,
}


def decoded(data, said):
    for mark, name in ((b"\xef\xbb\xbf", "utf-8"), (b"\xff\xfe", "utf-16-le"), (b"\xfe\xff", "utf-16-be")):
        if data.startswith(mark):
            return data[len(mark) :].decode(name), name, mark
    declared = re.match(rb"<\?xml[^>]*encoding=[\"']([^\"']+)", data)
    for name in ([said] if said != "-" else []) + ([declared[1].decode()] if declared else []) + ["utf-8", "cp1252"]:
        try:
            return data.decode(name), name, b""
        except UnicodeDecodeError:
            pass
    return None


def cases():
    for line in (CONFIGS / "cases.tsv").read_text().splitlines():
        if line.startswith("#"):
            continue
        name, format, said, key, was, new = line.split("\t")
        data = (CONFIGS / name).read_bytes()
        text, encoding, mark = decoded(data, said)
        case = dict(name=name, format=format, said=said, key=key, new=new, data=data, text=text, encoding=encoding, mark=mark)
        case["was"] = None if was == "(none)" else was
        yield case


def parsed(case, text):
    try:
        return FORMATS[case["format"]][0](text)
    except (ValueError, KeyError, AttributeError, configparser.Error, ElementTree.ParseError):
        return None


def main():
    yardtwin, show = os.path.abspath(sys.argv[1]), "--show" in sys.argv
    with tempfile.TemporaryDirectory() as place:
        wrong, seen, left = run(yardtwin, Path(place))
    for line in wrong + (left if show else []):
        print(line)
    print(f"{seen['files']} files, {seen['tried']} lives of an edit: {seen['back']} given back to what they meant,"
          f" {seen['bytes']} of them byte for byte; {seen['gone']} files or keys gone; {len(left)} left as they were, and named;"
          f" {len(wrong)} wrong")
    # What is left is honest, and no use.
    sys.exit(1 if wrong or len(left) * 20 > seen["tried"] else 0)


def run(yardtwin, place):
    def command(*arguments):
        done = subprocess.run([yardtwin, "--yard", place / "yard", *arguments, "--json"], capture_output=True, text=True)
        if done.returncode:
            sys.exit(f"{arguments}: {done.stderr}")
        return json.loads(done.stdout)

    lives = []
    for at, case in enumerate(cases()):
        for how in MEANWHILE:
            file = f"{at}-{how.replace(' ', '-')}/{case['name']}"
            (place / "files" / file).parent.mkdir(parents=True)
            (place / "files" / file).write_bytes(case["data"])
            lives.append((case, how, file))
    subprocess.run([yardtwin, "--yard", place / "yard", "init"], check=True, capture_output=True)
    command("intake", place / "files", "--title", "corpus", "--build", "1")
    command("clone", "corpus@1", "life")
    twin = place / "yard/twins/life"
    profile = (twin / "profile.toml").read_text()
    edits = []
    for case, _, file in lives:
        encoding = "" if case["said"] == "-" else f"encoding = {json.dumps(case['said'])}\n"
        edits.append(f"[[edits]]\nfile = {json.dumps('game/' + file)}\nkey = {toml_value(case['key'])}\n"
                     f"value = {toml_value(case['new'])}\nformat = \"{case['format']}\"\n{encoding}")
    (twin / "profile.toml").write_text(profile + "\n" + "\n".join(edits))
    command("profile", "apply", "life")

    wrong, left, made = [], [], {}
    seen = dict(files=len({case["name"] for case, _, _ in lives}), tried=0, back=0, bytes=0, gone=0)
    for case, how, file in lives:
        path = twin / "game" / file
        text = path.read_bytes()[len(case["mark"]) :].decode(case["encoding"])
        try:
            between = MEANWHILE[how](text, case)
        except (ValueError, KeyError, AttributeError, configparser.Error, ElementTree.ParseError):
            between = text
        if between is None:
            path.unlink()
            made[file] = None
        else:
            # A program puts another file in the place of the one that was there.
            path.unlink()
            made[file] = case["mark"] + between.encode(case["encoding"])
            path.write_bytes(made[file])
    (twin / "profile.toml").write_text(profile)
    views = {view["file"]: view for view in command("profile", "apply", "life")["edits"]}
    for case, how, file in lives:
        path = twin / "game" / file
        data = path.read_bytes() if path.exists() else None
        seen["tried"] += 1
        what = f"{file} {case['key']} ({how})"
        before = parsed(case, case["text"])
        if data == case["data"]:
            seen["back"] += 1
            seen["bytes"] += 1
        elif how in ("key gone", "emptied", "deleted"):
            seen["gone"] += 1
            if data != made[file]:
                wrong.append(f"{what}: it was left by the program as {made[file]!r}, and is {data!r}")
        elif views.get("game/" + file, {}).get("does") == "leaves":
            left.append(f"left: {what}: {data!r}")
            if data != made[file]:
                wrong.append(f"{what}: said to be left, and is {data!r}")
        else:
            text = data[len(case["mark"]) :].decode(case["encoding"])
            seen["back"] += 1
            if how == "untouched" or before is not None and parsed(case, text) != before:
                wrong.append(f"{what}: {text!r} does not mean what {case['text']!r} did")
    return wrong, seen, left


if __name__ == "__main__":
    main()
