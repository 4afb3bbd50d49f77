"""Reads the metadata of cargo from standard input, and writes the licences of what the tool is built of as Markdown."""

import json
import pathlib
import re
import sys

metadata = json.load(sys.stdin)
packages = {package["id"]: package for package in metadata["packages"]}
nodes = {node["id"]: node for node in metadata["resolve"]["nodes"]}
root = next(id for id, package in packages.items() if package["name"] == "churn-cli")

# What the tool is linked from: no tests, and nothing that only builds.
built, waiting = set(), [root]
while waiting:
    id = waiting.pop()
    if id in built:
        continue
    built.add(id)
    for dependency in nodes[id]["deps"]:
        if any(kind["kind"] is None for kind in dependency["dep_kinds"]):
            waiting.append(dependency["pkg"])
crates = sorted((packages[id] for id in built if packages[id]["source"]), key=lambda crate: (crate["name"], crate["version"]))

texts: dict[str, tuple[str, list[str]]] = {}
for crate in crates:
    folder = pathlib.Path(crate["manifest_path"]).parent
    files = [file for file in sorted(folder.iterdir()) if re.match(r"(licen[cs]e|copying|notice|unlicense)", file.name, re.IGNORECASE)]
    for file in files:
        if not file.is_file():
            continue
        text = file.read_text(errors="replace").replace("\r", "").strip()
        # Texts that differ in their breaks only are one.
        key = re.sub(r"\W+", " ", text).lower()
        texts.setdefault(key, (text, []))[1].append(crate["name"])

print("# Licences\n")
print("Churn is under the MIT licence or the Apache licence 2.0, as you choose. The tool is built of these crates:\n")
print("| crate | version | licence |\n| --- | --- | --- |")
for crate in crates:
    print(f"| {crate['name']} | {crate['version']} | {crate['license'] or 'see its text'} |")
print("\n## Texts\n\nThe texts that come with them, each once.\n")
for text, names in sorted(texts.values(), key=lambda found: found[1][0]):
    print(f"### {', '.join(dict.fromkeys(names))}\n\n```text\n{text.replace('```', chr(39) * 3)}\n```\n")
