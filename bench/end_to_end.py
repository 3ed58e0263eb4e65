#!/usr/bin/env python3
"""Measures the built program side by side with what it is compared with, in one run.

Root is needed to drop the kernel's caches. Ratios above 1 mean that the mount is faster. The
machine is noisy: each pair is measured in turn, several times, and the median of the ratios counts.

  bench/end_to_end.py [--build build/release] [--rounds 3] [--only read,find,copy]
"""
import argparse, json, os, shutil, signal, statistics, subprocess, sys, tempfile, time, urllib.request

parser = argparse.ArgumentParser()
parser.add_argument('--build', default='build/release')
parser.add_argument('--rounds', type=int, default=3)
parser.add_argument('--only', default='read,find,copy')
parser.add_argument('--gib', type=float, default=1.0)
args = parser.parse_args()
build = os.path.abspath(args.build)
work = tempfile.mkdtemp(prefix='pargeter-bench-', dir='/var/tmp')
env = dict(os.environ, XDG_CONFIG_HOME=work + '/c', XDG_STATE_HOME=work + '/s', XDG_RUNTIME_DIR=work + '/r')
at = work + '/mount'
plain = work + '/plain'
os.makedirs(plain)
open(work + '/key', 'w').write('benchsecret\n')


def run(*command, check=True, **kw):
    return subprocess.run(command, check=check, env=env, stdout=subprocess.PIPE, text=True, **kw).stdout


def pargeter(*words):
    return run(build + '/pargeter', *words)


def timed(work_fn):
    start = time.monotonic()
    work_fn()
    return time.monotonic() - start


def drop_caches():
    os.sync()
    open('/proc/sys/vm/drop_caches', 'w').write('3')


class Store:
    def __init__(self, *more):
        self.p = subprocess.Popen([build + '/pargeter-standin', 'objects', '--listen', '127.0.0.1:0', '--secret-file',
                                   work + '/key', '--bucket', 'herbarium', '--data', work + '/store', *more],
                                  stdout=subprocess.PIPE, text=True)
        stores.append(self)
        self.url = self.p.stdout.readline().split()[-1]

    def fill(self, **spec):
        urllib.request.urlopen(urllib.request.Request(self.url + '/-/fill', json.dumps(spec).encode(), method='POST'))

    def stop(self):
        self.p.terminate()
        self.p.wait()


def add(store, folder='herbarium', limit='8GiB'):
    pargeter('account', 'add', 'bench', '--kind', 's3', '--endpoint', store.url, '--key-id', 'fieldkey', '--secret-file', work + '/key')
    if os.path.exists(work + '/c/pargeter/drives/bench.toml'):
        pargeter('drive', 'remove', 'bench')
    pargeter('drive', 'add', 'bench', '--account', 'bench', '--folder', folder, '--at', at, '--cache-limit', limit,
             '--keep-free', '0.02', '--fresh-for', '1h')


def mount():
    pargeter('mount', 'bench', '--detach')


def unmount(forget=False):
    pargeter('unmount', 'bench')
    if forget:
        shutil.rmtree(work + '/s/pargeter', ignore_errors=True)


def read_all(path):
    with open(path, 'rb', buffering=0) as f:
        buffer = bytearray(1 << 20)
        while f.readinto(buffer):
            pass


def report(what, ours, theirs, better, note=''):
    ratios = [t / o for o, t in zip(ours, theirs)]
    print(f'{what:<58} {statistics.median(ours):8.2f} s  {better} {statistics.median(theirs):8.2f} s  ratio {statistics.median(ratios):5.2f} {note}', flush=True)


stores = []
SIGN = ['--aws-sigv4', 'aws:amz:us-east-1:s3', '-u', 'fieldkey:benchsecret', '-sf']


def curl_ranges(url, size, parts, to_files):
    step = size // parts
    children = []
    for i in range(parts):
        out = f'{plain}/part{i}' if to_files else '/dev/null'
        last = size - 1 if i == parts - 1 else (i + 1) * step - 1
        children.append(subprocess.Popen(['curl', *SIGN, '-r', f'{i * step}-{last}', '-o', out, url]))
    for child in children:
        assert child.wait() == 0


def bench_read():
    size = int(args.gib * (1 << 30))
    store = Store()
    with open(plain + '/object', 'wb') as f:
        block = os.urandom(1 << 20)
        for i in range(size >> 20):
            f.write(i.to_bytes(8, 'little') + block[8:])
    run('curl', *SIGN, '-T', plain + '/object', '-H', 'Expect:', '-H', 'x-amz-content-sha256: UNSIGNED-PAYLOAD', store.url + '/herbarium/object')
    for latency in ('0ms', '20ms'):
        store.stop()
        store = Store('--latency', latency) if latency != '0ms' else Store()
        add(store)
        ours, null, files = [], [], []
        for _ in range(args.rounds):
            null.append(timed(lambda: curl_ranges(store.url + '/herbarium/object', size, 8, False)))
            files.append(timed(lambda: curl_ranges(store.url + '/herbarium/object', size, 8, True)))
            mount()
            ours.append(timed(lambda: read_all(at + '/object')))
            unmount(forget=True)
        report(f'cold read of {args.gib:g} GiB, latency {latency}', ours, null, '8 curls to /dev/null')
        report(f'cold read of {args.gib:g} GiB, latency {latency}', ours, files, '8 curls to files')
    mount()
    read_all(at + '/object')
    second, third, ext_cold, ext_warm = [], [], [], []
    for _ in range(args.rounds):
        drop_caches()
        ext_cold.append(timed(lambda: read_all(plain + '/object')))
        ext_warm.append(timed(lambda: read_all(plain + '/object')))
        drop_caches()
        second.append(timed(lambda: read_all(at + '/object')))
        third.append(timed(lambda: read_all(at + '/object')))
    report('second read, page cache dropped', second, ext_cold, 'ext4')
    report('third read, from the page cache', third, ext_warm, 'ext4')
    unmount(forget=True)
    store.stop()


def daemon_memory():
    pid = json.loads(pargeter('status', '--json'))['drives'][0]['pid']
    for line in open(f'/proc/{pid}/status'):
        if line.startswith('VmRSS'):
            return int(line.split()[1]) // 1024


def bench_find():
    store = Store()
    store.fill(bucket='herbarium', prefix='tree/', count=100000, folders=1000, size=8192)
    add(store, 'herbarium/tree')
    for d in range(1000):
        os.makedirs(f'{plain}/tree/drawer-{d:04}')
    for i in range(100000):
        open(f'{plain}/tree/drawer-{i % 1000:04}/sheet-{i:06}.jpg', 'w').close()
    find = lambda path: run('find', path, '-size', '+1k', '-o', '-name', 'x')
    mount()
    print(f'{"ls of the root, first time":<58} {timed(lambda: os.listdir(at)):8.2f} s', flush=True)
    print(f'{"find over 100,000 names, first time (1,000 listings)":<58} {timed(lambda: find(at)):8.2f} s', flush=True)
    print(f'{"find over 100,000 names, second time":<58} {timed(lambda: find(at)):8.2f} s', flush=True)
    print(f'{"memory of the daemon after it":<58} {daemon_memory():8d} MiB', flush=True)
    ours, theirs = [], []
    for _ in range(args.rounds):
        drop_caches()
        theirs.append(timed(lambda: find(plain + '/tree')))
        drop_caches()
        ours.append(timed(lambda: find(at)))
    report('find + stat of 100,000 known names, kernel cold', ours, theirs, 'ext4')
    print(f'{"memory of the daemon after it":<58} {daemon_memory():8d} MiB', flush=True)
    unmount(forget=True)
    shutil.rmtree(plain + '/tree')
    store.stop()


PUT_2000 = '''
import http.client, threading, sys, hashlib, hmac, datetime
host, secret, n = sys.argv[1], 'benchsecret', 2000
def sign(path):
    now = datetime.datetime.now(datetime.timezone.utc); amz = now.strftime('%Y%m%dT%H%M%SZ'); day = amz[:8]
    canonical = f'PUT\\n{path}\\n\\nhost:{host}\\nx-amz-content-sha256:UNSIGNED-PAYLOAD\\nx-amz-date:{amz}\\n\\nhost;x-amz-content-sha256;x-amz-date\\nUNSIGNED-PAYLOAD'
    scope = f'{day}/us-east-1/s3/aws4_request'
    text = f'AWS4-HMAC-SHA256\\n{amz}\\n{scope}\\n' + hashlib.sha256(canonical.encode()).hexdigest()
    key = ('AWS4' + secret).encode()
    for part in (day, 'us-east-1', 's3', 'aws4_request'): key = hmac.new(key, part.encode(), hashlib.sha256).digest()
    signature = hmac.new(key, text.encode(), hashlib.sha256).hexdigest()
    return {'x-amz-date': amz, 'x-amz-content-sha256': 'UNSIGNED-PAYLOAD', 'Authorization': f'AWS4-HMAC-SHA256 Credential=fieldkey/{scope},SignedHeaders=host;x-amz-content-sha256;x-amz-date,Signature={signature}'}
def work(k):
    c = http.client.HTTPConnection(host)
    for i in range(k, n, 32):
        c.request('PUT', f'/herbarium/put/{i}', b'x' * 8192, sign(f'/herbarium/put/{i}')); r = c.getresponse(); r.read(); assert r.status == 200
threads = [threading.Thread(target=work, args=(k,)) for k in range(32)]
[t.start() for t in threads]; [t.join() for t in threads]
'''


def bench_copy():
    store = Store()
    add(store, 'herbarium/in')
    os.makedirs(plain + '/small')
    for i in range(2000):
        open(f'{plain}/small/{i}', 'wb').write(os.urandom(8192))
    mount()
    ours, theirs, empty, puts = [], [], [], []
    for k in range(args.rounds):
        theirs.append(timed(lambda: run('cp', '-r', plain + '/small', f'{plain}/copy{k}')))
        start = time.monotonic()
        ours.append(timed(lambda: run('cp', '-r', plain + '/small', f'{at}/copy{k}')))
        pargeter('flush', 'bench')
        empty.append(time.monotonic() - start)
        puts.append(timed(lambda: run(sys.executable, '-c', PUT_2000, store.url[7:])))
    report('copying 2,000 files of 8 KiB in', ours, theirs, 'ext4')
    report('... until the queue is empty', empty, puts, '32 connections of PUTs (Python)')
    unmount(forget=True)
    store.stop()


try:
    for name in args.only.split(','):
        {'read': bench_read, 'find': bench_find, 'copy': bench_copy}[name]()
except Exception:
    log = work + '/s/pargeter/drives/bench/mount.log'
    sys.stderr.write(open(log).read() if os.path.exists(log) else '')
    raise
finally:
    subprocess.run([build + '/pargeter', 'unmount', 'bench', '--now'], env=env, stderr=subprocess.DEVNULL, stdout=subprocess.DEVNULL)
    subprocess.run(['umount', '-l', at], stderr=subprocess.DEVNULL)
    for each in stores:
        each.stop()
    shutil.rmtree(work, ignore_errors=True)
