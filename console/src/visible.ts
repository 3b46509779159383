/**
 * What a machine or a person has called something never turns the direction of a page's writing, nor hides in it:
 * such characters are shown as they are written in JSON. They are so in everything the service answers, before it is
 * read, and go back to it in addresses as they were.
 */
const CODES = "00[0189][0-9a-f]|007f|061c|200[b-f]|202[a-e]|206[0-9]|feff";
const HIDDEN = /[\u007f-\u009f\u061c\u200b-\u200f\u202a-\u202e\u2060-\u2069\ufeff]/g;
const ESCAPED = new RegExp(`(?<!\\\\)((?:\\\\\\\\)*)\\\\u(${CODES})`, "gi");
const SHOWN = new RegExp(`%5Cu(${CODES})`, "gi");

/** JSON text whose strings hold nothing that steers. */
export function visible(json: string): string {
  return json
    .replace(ESCAPED, "$1\\\\u$2")
    .replace(HIDDEN, (one) => `\\\\u${one.charCodeAt(0).toString(16).padStart(4, "0")}`);
}

/** An address that names what was shown, as the service knows it. */
export function meant(url: string): string {
  return url.replace(SHOWN, (_, code: string) => encodeURIComponent(String.fromCharCode(parseInt(code, 16))));
}
