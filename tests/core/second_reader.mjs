// A second reader of the store format, written from docs/store-format.md alone, for the tests. It shares no code with
// Fennox and none with rescue.py, not even the language. Section numbers (§) are those of the page.
//
//   node second_reader.mjs vectors docs/store-format-vectors.json
//   node second_reader.mjs store FOLDER PASSPHRASE        every document of every backup, by the digest of its content

import crypto from "node:crypto";
import fs from "node:fs";
import { createRequire } from "node:module";
import path from "node:path";

const need = createRequire(new URL("../../console/package.json", import.meta.url));
const { argon2id } = need("@noble/hashes/argon2.js");
const { blake2b } = need("@noble/hashes/blake2.js");
const { sha3_256 } = need("@noble/hashes/sha3.js");
const { ml_kem768 } = need("@noble/post-quantum/ml-kem.js");
const fzstd = need("fzstd");

const hex = (bytes) => Buffer.from(bytes).toString("hex");
const unhex = (text) => Buffer.from(text, "hex");
const base64 = (text) => Buffer.from(text, "base64");
const digest = (bytes) => hex(blake2b(bytes, { dkLen: 32 }));
const hkdf = (secret, info, salt = Buffer.alloc(0)) => Buffer.from(crypto.hkdfSync("sha256", secret, salt, info, 32));
const hmac = (key, data) => crypto.createHmac("sha256", key).update(data).digest();

function canonical(value) {
  if (Array.isArray(value)) return `[${value.map(canonical).join(",")}]`;
  if (value === null || typeof value !== "object") return JSON.stringify(value);
  const keys = Object.keys(value).sort((a, b) => Buffer.compare(Buffer.from(a), Buffer.from(b)));
  return `{${keys.map((key) => `${JSON.stringify(key)}:${canonical(value[key])}`).join(",")}}`;
}

function gcm(key, nonce, sealed, aad) {
  const cipher = crypto.createDecipheriv("aes-256-gcm", key, nonce);
  cipher.setAAD(aad);
  cipher.setAuthTag(sealed.subarray(sealed.length - 16));
  return Buffer.concat([cipher.update(sealed.subarray(0, sealed.length - 16)), cipher.final()]);
}

// --- keys (§3) -------------------------------------------------------------------------------------------------------

const privateKey = (raw) =>
  crypto.createPrivateKey({ key: Buffer.concat([unhex("302e020100300506032b656e04220420"), raw]), format: "der", type: "pkcs8" });
const publicKey = (raw) =>
  crypto.createPublicKey({ key: Buffer.concat([unhex("302a300506032b656e032100"), raw]), format: "der", type: "spki" });
const publicOf = (raw) => crypto.createPublicKey(privateKey(raw)).export({ format: "der", type: "spki" }).subarray(-32);

// what a key of either suite has: of the hybrid the ML-KEM half, and of both the X25519 half at the end (§3.2)
const halves = (raw) => ({ curve: raw.subarray(-32), mlkem: raw.length === 96 ? ml_kem768.keygen(raw.subarray(0, 64)) : null });
const sealKeyOf = (raw) => Buffer.concat([halves(raw).mlkem?.publicKey ?? Buffer.alloc(0), publicOf(raw.subarray(-32))]);

// RFC 9180, base mode, HKDF-SHA256, AES-256-GCM, one message, empty AAD; the KEM is X-Wing or DHKEM(X25519, HKDF-SHA256)
function hpkeOpen(raw, sealed, info) {
  const { curve, mlkem } = halves(raw);
  const number = mlkem ? "647a" : "0020";
  const kem = Buffer.concat([Buffer.from("KEM"), unhex(number)]);
  const suite = Buffer.concat([Buffer.from("HPKE"), unhex(number), unhex("00010002")]);
  const version = Buffer.from("HPKE-v1");
  const extract = (salt, id, label, ikm) =>
    hmac(salt.length ? salt : Buffer.alloc(32), Buffer.concat([version, id, Buffer.from(label), ikm]));
  const expand = (prk, id, label, context, length) => {
    const head = Buffer.from([length >> 8, length & 255]);
    const text = Buffer.concat([head, version, id, Buffer.from(label), context, Buffer.from([1])]);
    return hmac(prk, text).subarray(0, length); // one block of HKDF-Expand (RFC 5869) is enough
  };
  const none = Buffer.alloc(0);
  const length = mlkem ? 1088 + 32 : 32;
  const [enc, ciphertext] = [sealed.subarray(0, length), sealed.subarray(length)];
  const shared = crypto.diffieHellman({ privateKey: privateKey(curve), publicKey: publicKey(enc.subarray(-32)) });
  const secret = mlkem
    ? Buffer.from(sha3_256(Buffer.concat([
        ml_kem768.decapsulate(enc.subarray(0, 1088), mlkem.secretKey), shared, enc.subarray(-32), publicOf(curve),
        Buffer.from("\\.//^\\"),
      ])))
    : expand(extract(none, kem, "eae_prk", shared), kem, "shared_secret", Buffer.concat([enc, publicOf(curve)]), 32);
  const schedule = Buffer.concat([
    Buffer.from([0]), extract(none, suite, "psk_id_hash", none), extract(none, suite, "info_hash", info),
  ]);
  const master = extract(secret, suite, "secret", none);
  const nonce = expand(master, suite, "base_nonce", schedule, 12);
  return gcm(expand(master, suite, "key", schedule, 32), nonce, ciphertext, none);
}

function unlock(header, passphrase) {
  for (const slot of header.slots) {
    const { memory, passes, lanes } = slot.costs;
    const key = argon2id(Buffer.from(passphrase), base64(slot.salt), { m: memory, t: passes, p: lanes, dkLen: 32 });
    const commit = hkdf(Buffer.from(key), `fennox/1|slot commitment|${header.key_set}|${header.generation}|${slot.id}`);
    if ("commit" in slot && !commit.equals(base64(slot.commit))) continue;
    const aad = `fennox/1|slot|${header.key_set}|${header.generation}|${slot.id}|${slot.salt}|${memory}|${passes}|${lanes}`;
    let opening;
    try {
      opening = gcm(key, base64(slot.nonce), base64(slot.locked), Buffer.from(aad));
    } catch {
      continue;
    }
    const { mac_write: _write, mac_open: open, ...body } = header;
    const mac = hex(hmac(hkdf(opening, "fennox/1|header open mac"), canonical(body)));
    if (mac === open && sealKeyOf(opening).equals(base64(header.seal_key))) return opening;
  }
  return null;
}

// --- objects ---------------------------------------------------------------------------------------------------------

class Reader {
  constructor(bytes) {
    this.bytes = bytes;
    this.at = 0;
  }
  take(length) {
    if (this.at + length > this.bytes.length) throw new Error("cut short");
    this.at += length;
    return this.bytes.subarray(this.at - length, this.at);
  }
  u32() {
    return this.take(4).readUInt32BE();
  }
}

class Store {
  constructor(id, keySet) {
    Object.assign(this, { id, keySet, secrets: {}, openings: {}, places: new Map() });
  }
  sealed(bytes, purpose) {
    const fields = new Reader(bytes);
    fields.take(4);
    const generation = fields.u32();
    const salt = fields.take(32);
    const start = bytes.subarray(0, 40);
    const key = hkdf(this.secrets[generation], `fennox/1|${purpose}|${this.id}|${generation}`, salt);
    return [gcm(key, Buffer.alloc(12), fields.take(fields.u32()), start), fields, generation];
  }
  readPack(bytes) {
    const table = new Reader(this.sealed(bytes, "pack table")[0]);
    for (let count = table.u32(); count > 0; count--) {
      const id = hex(table.take(32));
      const [offset, length] = [table.u32(), table.u32()];
      table.u32();
      this.places.set(id, bytes.subarray(offset, offset + length));
    }
  }
  chunk(id, key, length) {
    const sealed = this.places.get(id);
    const body = gcm(key, sealed.subarray(0, 12), sealed.subarray(12), Buffer.concat([Buffer.from([1]), unhex(id)]));
    const plain = body[0] === 1 ? Buffer.from(fzstd.decompress(body.subarray(1))) : body.subarray(1);
    if (plain.length !== length) throw new Error(`chunk ${id} has ${plain.length} bytes`);
    return plain;
  }
  tree(root) {
    let refs = root.chunks;
    const joined = () => Buffer.concat(refs.map((ref) => this.chunk(ref.id, base64(ref.key), ref.length)));
    for (let depth = root.depth; depth > 0; depth--) refs = JSON.parse(joined()).refs;
    return joined();
  }
  readRecord(bytes) {
    const [reference, fields, generation] = this.sealed(bytes, "record");
    const key = hkdf(this.secrets[generation], `fennox/1|record mac|${this.keySet}|${generation}`);
    if (!hmac(key, bytes.subarray(0, -32)).equals(bytes.subarray(-32))) throw new Error("the MAC does not fit");
    const section = fields.take(fields.u32());
    const told = JSON.parse(reference);
    if (digest(section) !== told.sealed_digest) throw new Error("the sealed section was exchanged");
    return [told, section];
  }
  section(reference, section) {
    const info = `fennox-store/1|record|${reference.origin}|${reference.generation}|${reference.backup}`;
    return hpkeOpen(this.openings[reference.generation], section, Buffer.from(info)).toString();
  }
}

const recordName = (reference) => {
  const newer = reference.generation > 1 ? `.g${reference.generation}` : "";
  const name = `${reference.time}.${reference.name || "backup"}.${reference.backup.slice(0, 8)}${newer}.fxr`;
  return `systems/${reference.folder}/${name}`;
};

// --- what is asked for -----------------------------------------------------------------------------------------------

function vectors(file) {
  const made = JSON.parse(fs.readFileSync(file));
  const store = new Store(made.store, made.key_set);
  store.secrets[3] = unhex(made.write_secret);
  store.openings[3] = unhex(made.opening_key);
  store.readPack(unhex(made.pack.bytes));
  const suites = made.suites.map((one) => {
    const header = JSON.parse(one.header);
    const opening = unlock(header, one.passphrase);
    const info = Buffer.from(`fennox/1|write secret|${made.key_set}|3`);
    return {
      opening_key: hex(opening),
      write_secret: hex(hpkeOpen(opening, base64(header.write_secret), info)),
      plain: hex(hpkeOpen(opening, unhex(one.hpke.sealed), Buffer.from(one.hpke.info))),
    };
  });
  const [reference, section] = store.readRecord(unhex(made.record.bytes));
  const derived = Object.keys(made.derived).map((one) => [one, hex(hkdf(store.secrets[3], `fennox/1|${one}|${made.key_set}|3`))]);
  return {
    derived: Object.fromEntries(derived),
    suites,
    chunks: made.chunks.map((one) => hex(store.chunk(one.id, unhex(one.key), one.plain.length / 2))),
    record: reference,
    name: recordName(reference),
    section: store.section(reference, section),
    note: JSON.parse(store.sealed(unhex(made.note.bytes), "note")[0]),
    sweep: JSON.parse(store.sealed(unhex(made.sweep.bytes), "sweep")[0]),
    anchor: JSON.parse(store.sealed(unhex(made.anchor.bytes), "anchor")[0]),
  };
}

function files(folder, ending) {
  const found = fs.existsSync(folder) ? fs.readdirSync(folder, { recursive: true }) : [];
  return found.filter((name) => name.endsWith(ending)).sort().map((name) => path.join(folder, name));
}

function everything(folder, passphrase) {
  const headers = files(path.join(folder, "header"), ".json").map((name) => JSON.parse(fs.readFileSync(name)));
  headers.sort((a, b) => b.generation - a.generation || b.revision - a.revision);
  const store = new Store(headers[0].store, headers[0].key_set);
  for (const header of headers) {
    const opening = header.generation in store.openings ? null : unlock(header, passphrase);
    if (opening === null) continue;
    const info = Buffer.from(`fennox/1|write secret|${header.key_set}|${header.generation}`);
    store.openings[header.generation] = opening;
    store.secrets[header.generation] = hpkeOpen(opening, base64(header.write_secret), info);
  }
  for (const name of files(path.join(folder, "packs"), ".fxp")) {
    const bytes = fs.readFileSync(name);
    if (`${digest(bytes)}.fxp` !== path.basename(name)) throw new Error(`${name} does not have the digest in its name`);
    store.readPack(bytes);
  }
  const newest = {};
  for (const name of files(path.join(folder, "systems"), ".fxr")) {
    const [reference, section] = store.readRecord(fs.readFileSync(name));
    if (path.relative(folder, name) !== recordName(reference)) throw new Error(`${name} lies in a wrong place`);
    const known = newest[reference.backup];
    if (known === undefined || known[0].generation < reference.generation) newest[reference.backup] = [reference, section];
  }
  const told = {};
  for (const [reference, section] of Object.values(newest)) {
    const head = JSON.parse(store.tree(JSON.parse(store.section(reference, section)).head));
    const documents = {};
    for (const part of head.parts) {
      for (const line of store.tree(part.root).toString().split("\n").filter(Boolean)) {
        const document = JSON.parse(line);
        const pieces = (document.chunks ?? []).map((one) => store.chunk(one.id, base64(one.key), one.length));
        const content = Buffer.concat(pieces);
        if (document.digest != null && document.digest !== digest(content)) throw new Error(`${document.path} is damaged`);
        documents[document.path] = digest(content);
      }
    }
    told[reference.name] = documents;
  }
  return told;
}

const [what, ...given] = process.argv.slice(2);
console.log(JSON.stringify(what === "vectors" ? vectors(...given) : everything(...given)));
