#!/usr/bin/env python3
"""Makes the pictures in docs/screenshots from a running demo: `make demo` in one terminal, this in another.

    scripts/screenshots.py [--service URL] [--cobble PATH] [--only NAME]

The console's pages are driven through WebDriver; a command's output is shown as a terminal would show it.
"""
import argparse, base64, html, json, os, shutil, socket, subprocess, tempfile, time, urllib.parse, urllib.request

ROOT = os.path.dirname(os.path.dirname(os.path.abspath(__file__)))
OUT = os.environ.get("SHOTS", os.path.join(ROOT, "docs", "screenshots"))
EARN = """SELECT r.name, r.nautical_miles, count(*) AS boardings, sum(b.fare) AS earned,
       round(sum(b.fare) / r.nautical_miles, 2) AS per_mile
FROM drop.public.boardings b
JOIN fleet.public.routes r ON r.id = b.route_id
WHERE b.month = '2025-07' AND r.active
GROUP BY r.name, r.nautical_miles
ORDER BY per_mile DESC, r.name
LIMIT 8"""


class Browser:
    def __init__(self):
        with socket.socket() as s:
            s.bind(("127.0.0.1", 0))
            port = s.getsockname()[1]
        self.profile = tempfile.mkdtemp()
        self.driver = subprocess.Popen(["chromedriver", f"--port={port}"], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        self.base = f"http://127.0.0.1:{port}"
        for _ in range(100):
            try:
                urllib.request.urlopen(self.base + "/status").read()
                break
            except OSError:
                time.sleep(0.1)
        args = ["--headless", "--no-sandbox", "--disable-gpu", "--disable-background-networking", "--no-first-run",
                "--hide-scrollbars", f"--user-data-dir={self.profile}", "--window-size=1280,800"]
        answer = self.call("POST", "/session", {"capabilities": {"alwaysMatch": {"goog:chromeOptions": {"args": args}}}})
        self.base += "/session/" + answer["sessionId"]
        self.call("POST", "/window/rect", {"width": 1280, "height": 800 + 87})

    def call(self, method, path, body=None):
        data = None if body is None else json.dumps(body).encode()
        request = urllib.request.Request(self.base + path, data=data, method=method, headers={"Content-Type": "application/json"})
        return json.load(urllib.request.urlopen(request))["value"]

    def script(self, text):
        return self.call("POST", "/execute/sync", {"script": text, "args": []})

    def until(self, condition, what):
        for _ in range(150):
            if self.script("return !!(" + condition + ")"):
                return
            time.sleep(0.1)
        raise SystemExit(f"waited in vain for {what}")

    def open(self, url):
        self.call("POST", "/url", {"url": url})

    def type(self, selector, text):
        found = self.call("POST", "/element", {"using": "css selector", "value": selector})
        self.call("POST", f"/element/{next(iter(found.values()))}/value", {"text": text})

    def save(self, name):
        time.sleep(0.5)
        # Where the project happens to lie on this machine says nothing.
        self.script("const walk = document.createTreeWalker(document.body, NodeFilter.SHOW_TEXT); let n; "
                    f"while (n = walk.nextNode()) if (n.data.includes({json.dumps(ROOT)})) n.data = n.data.replaceAll({json.dumps(ROOT + '/')}, '')")
        path = os.path.join(OUT, name + ".png")
        with open(path, "wb") as f:
            f.write(base64.b64decode(self.call("GET", "/screenshot")))
        print(path)

    def close(self):
        self.call("DELETE", "")
        self.driver.terminate()
        shutil.rmtree(self.profile, ignore_errors=True)


def terminal(browser, name, shown, output):
    page = f"""<body style="margin:0;background:#232220;color:#efedea;font:13px/1.4 'DejaVu Sans Mono',monospace">
<pre style="padding:18px 22px;margin:0;white-space:pre"><span style="color:#abc08b">$ {html.escape(shown)}</span>
{html.escape(output)}</pre></body>"""
    browser.open("data:text/html;charset=utf-8," + urllib.parse.quote(page))
    browser.save(name)


def main():
    p = argparse.ArgumentParser()
    p.add_argument("--service", default="http://127.0.0.1:7300")
    p.add_argument("--cobble", default=os.path.join(ROOT, "target", "release", "cobble"))
    p.add_argument("--only")
    a = p.parse_args()
    os.makedirs(OUT, exist_ok=True)
    b = Browser()
    wanted = lambda name: a.only in (None, name)
    run = lambda *args: subprocess.run([a.cobble, "--service", a.service, *args], capture_output=True, text=True)
    sql = lambda text: a.service + "/query?sql=" + urllib.parse.quote(text)
    try:
        # The link signs the browser in for all that follows.
        b.open(run("access", "link").stdout.strip())
        b.until("document.querySelector('nav')", "the console")
        if wanted("console-query"):
            b.open(sql(EARN))
            b.script("localStorage.clear(); localStorage.setItem('cobble-scheme', 'light')")
            b.open(sql(EARN))
            b.until("document.querySelector('#run')", "the query page")
            b.script("document.querySelector('#run').click()")
            b.until("document.querySelectorAll('.grid tbody tr').length >= 8", "rows")
            b.until("document.querySelectorAll('.tree .p-tree-node').length >= 2", "the tree")
            b.script("document.querySelectorAll('.tree .p-tree-node-toggle-button')[1].click()")
            b.until("document.querySelectorAll('.tree .p-tree-node').length >= 4", "schemas")
            b.save("console-query")
        if wanted("console-plan"):
            b.open(sql(EARN))
            b.until("document.querySelector('#run')", "the query page")
            b.script("document.querySelector('#run').click()")
            b.until("document.querySelectorAll('.grid tbody tr').length >= 8", "rows")
            b.script("document.querySelector('#plan-view').click()")
            b.until("document.querySelector('.graph svg') && document.querySelectorAll('.gate').length == 2", "the plan")
            b.save("console-plan")
        if wanted("console-error"):
            b.open(sql(EARN.replace("b.route_id", "b.rout_id")))
            b.until("document.querySelector('#run')", "the query page")
            b.script("document.querySelector('#run').click()")
            b.until("document.querySelector('.error') && document.querySelector('.cm-lintRange-error')", "the error")
            b.save("console-error")
        if wanted("console-completion"):
            b.open(sql("SELECT b.channel, count(*)\nFROM drop.public.boardings b\nGROUP BY 1\nHAVING "))
            b.until("document.querySelector('.cm-content')", "the editor")
            time.sleep(1)
            b.type(".cm-content", "\ue010 perc")
            b.until("document.querySelectorAll('.cm-tooltip-autocomplete li').length >= 2", "completions")
            b.save("console-completion")
        if wanted("console-catalogs"):
            b.open(a.service + "/catalogs")
            b.until("document.querySelectorAll('.catalog ul').length >= 2", "catalogs")
            b.script("[...document.querySelectorAll('button')].filter(x => x.textContent.trim() == 'Test')[1].click()")
            b.until("document.querySelectorAll('.steps li').length >= 5", "test steps")
            b.save("console-catalogs")
        if wanted("console-connection"):
            b.open(a.service + "/catalogs")
            b.until("document.querySelector('[aria-label=\"Change connection fleet_db\"]')", "connections")
            b.script("document.querySelector('[aria-label=\"Change connection fleet_db\"]').click()")
            b.until("document.querySelectorAll('[role=dialog] label').length > 8", "the form")
            b.save("console-connection")
        if wanted("console-credentials"):
            secret = os.path.join(tempfile.mkdtemp(), "secret")
            with open(secret, "w") as f:
                f.write("not the real one")
            for user in ("ada", "bo"):
                run("access", "add", user)
            run("connection", "credentials", "fleet_db", "--for", "ada", "--user", "ada_reader", "--secret-file", secret)
            b.open(a.service + "/catalogs")
            b.until("document.querySelector('[aria-label=\"Who signs in at fleet_db\"]')", "connections")
            b.script("document.querySelector('[aria-label=\"Who signs in at fleet_db\"]').click()")
            b.until("document.querySelector('[aria-label=\"Forget the credentials of ada\"]')", "credentials")
            b.save("console-credentials")
            run("connection", "credentials", "fleet_db", "--for", "ada", "--drop")
            for user in ("ada", "bo"):
                run("access", "drop", user)
        if wanted("console-discover"):
            b.open(a.service + "/catalogs/drop")
            b.until("document.querySelector('[aria-label=\"Discover tables\"] button[type=submit]')", "the catalog's page")
            b.script("document.querySelector('[aria-label=\"Discover tables\"] button[type=submit]').click()")
            b.until("document.querySelector('[aria-label=\"Columns of public.incidents\"]')", "tables")
            b.script("document.querySelector('[aria-label=\"Columns of public.incidents\"]').click()")
            b.save("console-discover")
        if wanted("console-table"):
            b.open(a.service + "/catalogs/drop/public/boardings")
            b.until("document.querySelectorAll('.scroll tbody tr').length >= 20", "sample rows")
            b.save("console-table")
        if wanted("console-row-groups"):
            b.open(a.service + "/catalogs/drop/public/boardings")
            b.until("document.querySelector('[aria-label=Condition]')", "the table's page")
            b.type("[aria-label=Condition]", "month >= '2025-06' and fare > 23")
            b.script("document.querySelector('.asks button').click()")
            b.until("document.querySelectorAll('.groups tbody tr').length >= 20", "row groups")
            b.script("document.querySelector('.groups .link').click()")
            b.until("[...document.querySelectorAll('h3')].some((h) => h.textContent.startsWith('Row group'))", "a row group")
            b.script("document.querySelector('.asks').scrollIntoView({ block: 'start' }); window.scrollBy(0, -80)")
            b.save("console-row-groups")
        if wanted("console-lake-care"):
            b.open(a.service + "/catalogs/deep/ops/boardings/lake")
            b.until("document.querySelector('.kinds button')", "the table's page")
            b.script("document.querySelectorAll('.kinds button')[1].click()")
            b.until("[...document.querySelectorAll('button')].some((k) => k.textContent.trim() === 'Rewrite manifests now')", "what would be done")
            b.script("document.querySelector('.kinds').scrollIntoView({ block: 'center' })")
            b.save("console-lake-care")
        if wanted("console-lake"):
            b.open(a.service + "/catalogs/deep/ops/boardings/lake")
            b.until("document.querySelectorAll('.column:nth-child(4) button').length >= 2", "files")
            b.script("document.querySelectorAll('.column:nth-child(4) button')[1].click()")
            b.until("document.querySelectorAll('.chunks tbody tr').length >= 8", "row groups")
            b.save("console-lake")
        if wanted("console-runs"):
            b.open(a.service + "/runs")
            b.until("document.querySelectorAll('tbody tr').length >= 2", "runs")
            b.save("console-runs")
        one = EARN.replace("\n", " ").replace("       ", " ")
        if wanted("command-sql"):
            out = run("sql", EARN)
            wrong = run("sql", "SELECT rout_id FROM drop.public.boardings")
            shown = f'cobble sql "{EARN}"'
            terminal(b, "command-sql", shown, out.stdout + "\n$ cobble sql \"SELECT rout_id FROM drop.public.boardings\"\n" + wrong.stderr)
        if wanted("command-plan"):
            terminal(b, "command-plan", 'cobble plan --measure "SELECT r.name, … "', run("plan", "--measure", one).stdout)
        if wanted("command-browse"):
            terminal(b, "command-browse", "cobble browse fleet.public.pass_holders --sample 5", run("browse", "fleet.public.pass_holders", "--sample", "5").stdout
                     + "\n$ cobble connection test fleet_db\n" + run("connection", "test", "fleet_db").stdout
                     + "\n$ cobble runs list --most 5\n" + run("runs", "list", "--most", "5").stdout)
    finally:
        b.close()


main()
