// As much of a PostgreSQL client as the office needs: one connection, one query after the other, no packages.
'use strict';
const crypto = require('crypto');
const net = require('net');

class Client {
  constructor(address) {
    const url = new URL(address);
    this.user = decodeURIComponent(url.username) || 'harbour';
    this.password = decodeURIComponent(url.password);
    this.database = url.pathname.slice(1) || this.user;
    this.waiting = [];
    this.left = Buffer.alloc(0);
    this.ready = new Promise((resolve, reject) => Object.assign(this, { let_in: resolve, refuse: reject }));
    this.socket = net.connect(+url.port || 5432, url.hostname, () => this.start());
    this.socket.setNoDelay(true);
    this.socket.on('data', data => this.take(data));
    this.socket.on('error', error => this.refuse(error));
  }

  send(kind, ...parts) {
    const body = Buffer.concat(parts.map(part => (Buffer.isBuffer(part) ? part : Buffer.from(part + '\0'))));
    const head = Buffer.alloc(kind ? 5 : 4);
    if (kind) head.write(kind);
    head.writeInt32BE(body.length + 4, kind ? 1 : 0);
    this.socket.write(Buffer.concat([head, body]));
  }

  start() {
    this.send('', Buffer.from([0, 3, 0, 0]), 'user', this.user, 'database', this.database, 'application_name', 'harbour office', Buffer.from([0]));
  }

  take(data) {
    this.left = Buffer.concat([this.left, data]);
    while (this.left.length >= 5) {
      const size = this.left.readInt32BE(1) + 1;
      if (this.left.length < size) return;
      const kind = String.fromCharCode(this.left[0]);
      const body = this.left.subarray(5, size);
      this.left = this.left.subarray(size);
      this.message(kind, body);
    }
  }

  message(kind, body) {
    const now = this.waiting[0];
    if (kind === 'R') this.authenticate(body.readInt32BE(0), body.subarray(4));
    else if (kind === 'T' && now) now.names = names(body);
    else if (kind === 'D' && now) now.rows.push(row(body, now.names));
    else if (kind === 'E') {
      const error = new Error(body.toString().split('\0').find(field => field[0] === 'M').slice(1));
      if (now) now.error = error;
      else this.refuse(error);
    } else if (kind === 'Z') {
      if (!this.open) { this.open = true; this.let_in(); return; }
      this.waiting.shift();
      now.error ? now.reject(now.error) : now.resolve(now.rows);
    }
  }

  authenticate(kind, body) {
    if (kind === 3) this.send('p', this.password);
    else if (kind === 10) {
      this.nonce = crypto.randomBytes(18).toString('base64');
      const first = Buffer.from('n,,n=,r=' + this.nonce);
      const size = Buffer.alloc(4);
      size.writeInt32BE(first.length);
      this.send('p', 'SCRAM-SHA-256', size, first);
    } else if (kind === 11) this.prove(body.toString());
  }

  prove(challenge) { // RFC 5802
    const told = Object.fromEntries(challenge.split(',').map(part => [part[0], part.slice(2)]));
    const sign = (key, text) => crypto.createHmac('sha256', key).update(text).digest();
    const salted = crypto.pbkdf2Sync(this.password, Buffer.from(told.s, 'base64'), +told.i, 32, 'sha256');
    const key = sign(salted, 'Client Key');
    const last = 'c=biws,r=' + told.r;
    const signature = sign(crypto.createHash('sha256').update(key).digest(), `n=,r=${this.nonce},${challenge},${last}`);
    this.send('p', Buffer.from(`${last},p=${Buffer.from(key.map((byte, i) => byte ^ signature[i])).toString('base64')}`));
  }

  async query(text, ...values) {
    await this.ready;
    return new Promise((resolve, reject) => {
      this.waiting.push({ resolve, reject, rows: [], names: [] });
      const parameters = [Buffer.from([0, 0, 0, values.length])];
      for (const value of values) {
        const bytes = Buffer.from(String(value));
        const size = Buffer.alloc(4);
        size.writeInt32BE(bytes.length);
        parameters.push(size, bytes);
      }
      this.socket.cork();
      this.send('P', '', text, Buffer.from([0, 0]));
      this.send('B', '', '', ...parameters, Buffer.from([0, 0]));
      this.send('D', Buffer.from('P'), '');
      this.send('E', '', Buffer.from([0, 0, 0, 0]));
      this.send('S');
      this.socket.uncork();
    });
  }
}

function names(body) {
  const found = [];
  for (let i = 0, at = 2; i < body.readInt16BE(0); i++) {
    const end = body.indexOf(0, at);
    found.push(body.toString('utf8', at, end));
    at = end + 19;
  }
  return found;
}

function row(body, columns) {
  const found = {};
  for (let i = 0, at = 2; i < columns.length; i++) {
    const size = body.readInt32BE(at);
    found[columns[i]] = size < 0 ? null : body.toString('utf8', at + 4, at + 4 + size);
    at += 4 + Math.max(size, 0);
  }
  return found;
}

module.exports = { Client };
