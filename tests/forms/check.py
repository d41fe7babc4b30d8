"""The machine-readable forms of one run: the session against its schema, SARIF
against the rules of the standard that tools rely on, JUnit and HTML as documents
that stand on their own. check.py TONDO PROGRAM SCHEMA"""
import html.parser
import json
import os
import re
import subprocess
import sys
import tempfile
import xml.etree.ElementTree

import jsonschema

tondo, program, schema = sys.argv[1:4]
sources = os.path.dirname(os.path.abspath(__file__))
folder = tempfile.mkdtemp(prefix="tondo-forms-")
os.chdir(folder)
os.environ["XDG_STATE_HOME"] = folder + "/state"
passed = failed = 0


def is_true(what, condition):
    global passed, failed
    if condition:
        passed += 1
    else:
        failed += 1
        print("not so:", what, file=sys.stderr)


forms = ["json", "sarif", "junit", "html", "line"]
command = [tondo, "run", "-q"] + [a for f in forms for a in ("-r", f + ":report." + f)]
status = subprocess.run(command + [program], stdout=subprocess.DEVNULL).returncode
is_true("exit status 100", status == 100)
session = json.load(open("report.json"))
jsonschema.validate(session, json.load(open(schema)), cls=jsonschema.Draft202012Validator)
passed += 1
findings = session["findings"]

sarif = json.load(open("report.sarif"))
standard = json.load(open(os.path.join(sources, "sarif-schema-2.1.0.json"))) # as OASIS publishes it
jsonschema.validate(sarif, standard, cls=jsonschema.Draft7Validator)
passed += 1
run = sarif["runs"][0]
rules = run["tool"]["driver"]["rules"]
is_true("SARIF version", sarif["version"] == "2.1.0")
is_true("as many results as findings", len(run["results"]) == len(findings))
is_true("rule ids are unique", len({r["id"] for r in rules}) == len(rules))
is_true("every rule has its CWE", all(any(t.startswith("CWE-") for t in r["properties"]["tags"])
                                      for r in rules))
taxa = {t["id"] for t in run["taxonomies"][0]["taxa"]}
is_true("relations lead to the taxonomy", all(r["relationships"][0]["target"]["id"] in taxa
                                              for r in rules))
for result, finding in zip(run["results"], findings):
    is_true("rule index", rules[result["ruleIndex"]]["id"] == result["ruleId"] == finding["kind"])
    is_true("fingerprint", result["partialFingerprints"]["tondoFindingId/v1"] == finding["id"])
    is_true("message", result["message"]["text"] == finding["message"])
    is_true("one location", len(result["locations"]) == 1)
    for flow in result.get("codeFlows", []):
        steps = flow["threadFlows"][0]["locations"]
        is_true("steps in order", [s["executionOrder"] for s in steps] ==
                sorted(s["executionOrder"] for s in steps))
    for stack in result["stacks"]:
        is_true("stack frames", len(stack["frames"]) > 0)
text = json.dumps(run["results"])
for uri in re.findall(r'"uri": "([^"]*)"', text):
    is_true("uri " + uri, " " not in uri and re.match(r"^(file:///|[^/:]+)", uri))
is_true("lines count from 1", all(int(n) > 0 for n in re.findall(r'"startLine": (\d+)', text)))
bases = run["originalUriBaseIds"]
is_true("base folder ends in a slash", all(b["uri"].endswith("/") for b in bases.values()))

suites = xml.etree.ElementTree.parse("report.junit").getroot()
is_true("JUnit root", suites.tag == "testsuites")
cases = suites.findall("testsuite/testcase")
is_true("a case for each finding", len(cases) == len(findings) == int(suites.get("failures")))
is_true("names are unique", len({c.get("name") for c in cases}) == len(cases))


class Page(html.parser.HTMLParser):
    empty = {"meta", "link", "input", "br", "line", "rect", "path", "img"}

    def __init__(self):
        super().__init__()
        self.open, self.ids, self.links, self.outside, self.articles = [], set(), [], [], 0

    def handle_starttag(self, tag, attributes):
        values = dict(attributes)
        if tag not in self.empty:
            self.open.append(tag)
        if "id" in values:
            is_true("one id " + values["id"], values["id"] not in self.ids)
            self.ids.add(values["id"])
        if values.get("href", "").startswith("#"):
            self.links.append(values["href"][1:])
        for name in ("src", "href"):
            if re.match(r"(https?:)?//", values.get(name, "")):
                self.outside.append(values[name])
        self.articles += tag == "article"

    def handle_startendtag(self, tag, attributes):
        pass

    def handle_endtag(self, tag):
        if tag in self.empty:
            return
        is_true("tags are nested: " + tag, self.open and self.open[-1] == tag)
        if tag in self.open:
            while self.open.pop() != tag:
                pass


page = Page()
text = open("report.html", encoding="utf-8").read()
page.feed(text)
is_true("all tags are closed", page.open == [])
is_true("links lead somewhere", set(page.links) <= page.ids)
is_true("nothing from outside", page.outside == [] and "@import" not in text)
is_true("an article for each finding", page.articles == len(findings))
is_true("a message in the page", html.escape(findings[0]["message"], quote=False) in text)

lines = open("report.line").read().splitlines()
is_true("a line for each finding", len(lines) == len(findings))
is_true("the line form", all(re.match(r"^.+:\d+:\d+: [a-z-]+: .", l) for l in lines))
print(passed, "passed,", failed, "failed")
sys.exit(failed != 0)
