// A push service and the browsers behind it, as a stand-in: messages come by HTTPS, are held to
// RFC 8030 and RFC 8292, and are decrypted by another's implementation of RFC 8188 and RFC 8291.
import { createECDH, createPublicKey, randomBytes, verify } from "node:crypto";
import { spawnSync } from "node:child_process";
import { readFileSync } from "node:fs";
import { createServer } from "node:https";
import { join } from "node:path";
import ece from "http_ece";

/** Open what was sealed. @param phone  {ecdh, secret}. */
export const unseal = (phone, body) => ece.decrypt(body, { version: "aes128gcm", privateKey: phone.ecdh, authSecret: phone.secret }).toString();

/** What is wrong with who a message says it is from; nothing if it is right. */
export function wrongSender(header, origin) {
  const [, token, key] = (header || "").match(/^vapid t=([^,]+), k=([\w-]{87})$/) || [];
  if (!token) return "no such line: " + header;
  const point = Buffer.from(key, "base64url"), [head, claims, signature] = token.split(".");
  const jwk = { kty: "EC", crv: "P-256", x: point.subarray(1, 33).toString("base64url"), y: point.subarray(33).toString("base64url") };
  const read = (part) => JSON.parse(Buffer.from(part, "base64url").toString());
  if (read(head).alg !== "ES256") return "another algorithm";
  if (!verify("sha256", Buffer.from(head + "." + claims), { key: createPublicKey({ key: jwk, format: "jwk" }), dsaEncoding: "ieee-p1363" }, Buffer.from(signature, "base64url"))) return "the signature is wrong";
  const said = read(claims), left = said.exp - Date.now() / 1000;
  if (said.aud !== origin) return "meant for " + said.aud;
  if (!(left > 0 && left <= 86400)) return "holds for " + left + " s";
  return "sub" in said && !/^(mailto:|https:)/.test(said.sub) ? "sub is " + said.sub : "";
}

/** Start one; its certificate is FOLDER/push.pem. */
export async function startPushService(folder) {
  const made = spawnSync("openssl", ["req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "2", "-subj", "/CN=push", "-addext", "subjectAltName=IP:127.0.0.1", "-keyout", "push.key", "-out", "push.pem"], { cwd: folder });
  if (made.status !== 0) throw new Error("no certificate: " + made.stderr);
  const phones = new Map();
  let origin = "";
  const take = (phone, request, body) => {
    const h = request.headers;
    const wrong = wrongSender(h.authorization, origin) || (/^\d+$/.test(h.ttl) ? "" : "TTL is " + h.ttl) ||
      (h["content-encoding"] === "aes128gcm" ? "" : "encoding " + h["content-encoding"]) || (/^[\w-]{1,32}$/.test(h.topic) ? "" : "topic " + h.topic);
    if (wrong) { phone.wrong.push(wrong); return 400; }
    const key = h.authorization.split("k=")[1];
    phone.key ||= key;
    if (phone.key !== key) return 403;
    phone.messages.push(JSON.parse(unseal(phone, body)));
    return 201;
  };
  const server = createServer({ key: readFileSync(join(folder, "push.key")), cert: readFileSync(join(folder, "push.pem")) }, (request, answer) => {
    const parts = [], phone = phones.get(request.url);
    request.on("data", (d) => parts.push(d));
    request.on("end", () => answer.writeHead(!phone || request.method !== "POST" ? 404 : phone.answer || take(phone, request, Buffer.concat(parts))).end());
  });
  await new Promise((resolve) => server.listen(0, "127.0.0.1", resolve));
  origin = "https://127.0.0.1:" + server.address().port;
  return {
    origin,
    stop: () => { server.close(); server.closeAllConnections(); },
    /** A browser that subscribes. answer: a status that its messages are refused with. */
    phone(name) {
      const ecdh = createECDH("prime256v1"), path = "/" + name + "-" + randomBytes(6).toString("hex");
      ecdh.generateKeys();
      const phone = { name, ecdh, secret: randomBytes(16), messages: [], wrong: [], answer: 0, endpoint: origin + path };
      phones.set(path, phone);
      return phone;
    },
  };
}

/** What a browser tells the page of itself. */
export const subscription = (phone) => ({ endpoint: phone.endpoint, key: phone.ecdh.getPublicKey("base64url"), secret: phone.secret.toString("base64url"), name: phone.name });
