#!/usr/bin/env python3
"""The page of a report in a browser: tests/page/test.py PROGRAM

Drives headless Chromium by WebDriver (W3C): charts are drawn, tables sort by mouse and keys, light and dark, print, a desk
and a telephone; nothing that strangers have named runs; the sums of the page are those of `indagator search`."""
import base64, http.client, json, os, re, shutil, socket, subprocess, sys, tempfile, time

program = os.path.abspath(sys.argv[1])
HOSTILE = ['<script>window.taken=1</script>', '</script><script>window.taken=2</script>', '"><img/src=x/onerror=window.taken=3>',
           "'onmouseover='window.taken=4", '=HYPERLINK(1)', 'x' * 120, '\u202egnp.exe', 'a&b&lt;', '{{7*7}}', 'javascript:window.taken=5']
CONFIG = '''store: log
state: state
zone: UTC
routes:
  - {name: all, file: "{facility}.log"}
alerts:
  - {name: "down", when: 'text contains "never"', by: host}
'''


class Browser:
    def __init__(self, folder):
        with socket.socket() as free:
            free.bind(('127.0.0.1', 0))
            self.port = free.getsockname()[1]
        self.driver = subprocess.Popen(['chromedriver', '--port=%d' % self.port], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        self.session = None
        for _ in range(200):
            try:
                if self.call('GET', '/status')['ready']:
                    break
            except OSError:
                time.sleep(0.05)
        arguments = ['--headless=new', '--no-sandbox', '--disable-gpu', '--user-data-dir=' + os.path.join(folder, 'profile')]
        made = self.call('POST', '/session', {'capabilities': {'alwaysMatch': {
            'browserName': 'chrome', 'goog:chromeOptions': {'args': arguments}, 'goog:loggingPrefs': {'browser': 'ALL'}}}})
        self.session = '/session/' + made['sessionId']

    def call(self, method, path, body=None):
        connection = http.client.HTTPConnection('127.0.0.1', self.port, timeout=60)
        text = json.dumps(body if body is not None else {}) if method == 'POST' else None
        connection.request(method, path, text, {'Content-Type': 'application/json'})
        answer = json.loads(connection.getresponse().read())
        connection.close()
        if isinstance(answer['value'], dict) and answer['value'].get('error'):
            raise RuntimeError('%s %s: %s' % (method, path, answer['value']['message'].split('\n')[0]))
        return answer['value']

    def do(self, path, **body):
        return self.call('POST', self.session + path, body)

    def run(self, script, *values):
        return self.do('/execute/sync', script=script, args=list(values))

    def developer(self, command, **parameters):
        return self.do('/goog/cdp/execute', cmd=command, params=parameters)

    def size(self, width, height):
        self.developer('Emulation.setDeviceMetricsOverride', width=width, height=height, deviceScaleFactor=1, mobile=width < 600)

    def scheme(self, name):
        self.developer('Emulation.setEmulatedMedia', features=[{'name': 'prefers-color-scheme', 'value': name}])

    def end(self):
        if self.session:
            self.call('DELETE', self.session)
        self.driver.terminate()
        self.driver.wait()


def indagator(folder, *arguments, codes=(0,)):
    done = subprocess.run([program, *arguments], cwd=folder, capture_output=True, text=True)
    assert done.returncode in codes, (arguments, done.returncode, done.stderr)
    return done.stdout


def make_store(folder):
    with open(os.path.join(folder, 'indagator.yaml'), 'w') as config:
        config.write(CONFIG)
    severities = ['alert', 'error', 'warning', 'notice', 'info', 'info', 'info', 'debug']
    with open(os.path.join(folder, 'messages.log'), 'w') as messages:
        for day in (2, 9, 16, 23):
            for i in range(600):
                name = 'device-%d' % (i % 25) if i % 3 else HOSTILE[i // 3 % len(HOSTILE)]
                if day == 23 and i % 25 == 7:
                    continue
                messages.write('2026-11-%02dT%02d:%02d:00.000000Z - %s local4 %s app - - - text\n' % (
                    day, i // 25 % 24, i % 60, name.replace(' ', '_'), severities[i * 7 % len(severities)]))
            if day == 23:
                messages.write(''.join('2026-11-23T23:%02d:00.000000Z - device-3 local4 warning app - - - text\n' % i for i in range(60)))
    indagator(folder, 'collect', '--from', 'messages.log', '--as', 'plain')
    indagator(folder, 'report', '--for', '2026-11-23', '--html', 'page.html', '--top', '0')


def is_drawn(browser, section):
    """Whether the canvas has more than one colour."""
    return browser.run('''
        const canvas = document.querySelector('canvas[data-section="' + arguments[0] + '"]');
        const pixels = new Uint32Array(canvas.getContext('2d').getImageData(0, 0, canvas.width, canvas.height).data.buffer);
        return new Set(pixels).size > 3;''', section)


def column(browser, section, number):
    return browser.run('''return Array.from(document.querySelectorAll('#' + arguments[0] + ' tbody tr'),
        (row) => row.cells[arguments[1]].dataset.value === undefined ? row.cells[arguments[1]].textContent
                                                                     : Number(row.cells[arguments[1]].dataset.value))''', section, number)


def check_charts(browser):
    assert browser.run('return document.documentElement.dataset.drawn') == '3', browser.run('return document.documentElement.dataset.drawn')
    for section in ('volume', 'devices', 'changes'):
        assert is_drawn(browser, section), section


def check_sorting(browser):
    heads = browser.run("return Array.from(document.querySelectorAll('#devices th'), (head) => head.textContent)")
    messages = heads.index('messages')
    button = browser.run("return document.querySelectorAll('#devices th button')[arguments[0]]", messages)
    key, element = next(iter(button.items()))
    browser.do('/element/%s/click' % element)
    numbers = column(browser, 'devices', messages)
    assert numbers == sorted(numbers, reverse=True) and numbers[0] > numbers[-1]
    browser.do('/element/%s/value' % element, text='\ue007')  # Enter
    assert column(browser, 'devices', messages) == sorted(numbers)
    assert browser.run("return document.querySelectorAll('#devices th')[arguments[0]].getAttribute('aria-sort')", messages) == 'ascending'


def check_sums(browser, folder):
    for field in ('device', 'severity'):
        found = {}
        for line in indagator(folder, 'search', '--copies', '--json', '--by', field, '--since', '2026-11-23', '--until', '2026-11-23').splitlines():
            one = json.loads(line)
            found[one[field]] = one['messages']
        if field == 'device':
            names, numbers = column(browser, 'devices', 0), column(browser, 'devices', 3)
            assert dict(zip(names, numbers)) == found, (dict(zip(names, numbers)), found)
        else:
            heads = browser.run("return Array.from(document.querySelectorAll('#volume th'), (head) => head.textContent)")
            for name, count in found.items():
                assert sum(column(browser, 'volume', heads.index(name))) == count, name
            assert sum(column(browser, 'volume', 1)) == sum(found.values())


def check_looks(browser):
    colours = {}
    for width, height in ((1280, 800), (390, 844)):
        browser.size(width, height)
        for scheme in ('light', 'dark'):
            browser.scheme(scheme)
            colours[scheme] = browser.run('return getComputedStyle(document.body).backgroundColor')
            wide = browser.run('return document.documentElement.scrollWidth - window.innerWidth')
            assert wide <= 0, ('something is wider than the window', width, wide)
            check_charts(browser)
    assert colours['light'] != colours['dark']
    browser.scheme('light')
    browser.size(1280, 800)
    paper = base64.b64decode(browser.do('/print'))
    assert paper.startswith(b'%PDF') and len(paper) > 20000


def check_nothing_runs(browser):
    time_of_moves = browser.run('''
        for (const kind of ['mouseover', 'click', 'focus', 'error', 'load'])
            document.querySelectorAll('main *').forEach((element) => element.dispatchEvent(new Event(kind)));
        return [typeof window.taken, document.querySelectorAll('img, iframe, object, link, base, form').length,
                document.scripts.length, document.querySelectorAll('[onerror], [onmouseover]').length];''')
    assert time_of_moves == ['undefined', 0, 3, 0], time_of_moves
    # What would be written into the page by hand does not run either: the policy knows its own scripts only.
    assert browser.run('''
        const script = document.createElement('script');
        script.textContent = 'window.taken = 6';
        document.body.append(script);
        const image = document.createElement('img');
        image.setAttribute('onerror', 'window.taken = 7');
        image.src = 'data:image/png;base64,AAAA';
        document.body.append(image);
        return typeof window.taken;''') == 'undefined'
    for _ in range(40):
        if browser.run('return document.images[0].complete'):
            break
        time.sleep(0.05)
    assert browser.run('return typeof window.taken') == 'undefined'


def check_time(browser, path):
    browser.do('/url', url='file://' + path)
    drawn = browser.run("return performance.getEntriesByType('navigation')[0].domContentLoadedEventEnd")
    print('drawn in %d ms, %d bytes' % (drawn, os.path.getsize(path)))


def main():
    folder = tempfile.mkdtemp(prefix='indagator-page-')
    browser = None
    try:
        make_store(folder)
        browser = Browser(folder)
        path = os.path.join(folder, 'page.html')
        browser.size(1280, 800)
        browser.scheme('light')
        check_time(browser, path)
        log = [entry for entry in browser.do('/se/log', type='browser') if entry['level'] == 'SEVERE']
        assert not log, log
        for check in (check_charts, check_sorting, check_looks, check_nothing_runs):
            check(browser)
            print('good: ' + check.__name__)
        browser.do('/url', url='file://' + path)
        check_sums(browser, folder)
        print('good: check_sums')
        browser.run("document.getElementById('logarithmic').click()")
        check_charts(browser)
        text = open(path, encoding='utf-8').read()
        assert not re.search(r'(src|href)="(?!#)', text), 'the page asks for something else'
        assert os.path.getsize(path) < 1000000
    finally:
        if browser:
            browser.end()
        shutil.rmtree(folder, ignore_errors=True)


main()
