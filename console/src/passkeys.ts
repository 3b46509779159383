import { startAuthentication, startRegistration, WebAuthnError } from "@simplewebauthn/browser";
import { client, get, type Schema } from "./api";

type Begun = Schema["PasskeyBegun"];
type Options<T extends (given: never) => unknown> = Parameters<T>[0] extends { optionsJSON: infer O } ? O : never;
type Credential = Schema["PasskeySignIn"]["credential"];

/** In words: browsers say little of why a passkey was not given. */
function plainly(error: unknown): unknown {
  if (error instanceof WebAuthnError || error instanceof DOMException) {
    return new Error("The browser gave no passkey. It was cancelled, or none of yours is on this device.");
  }
  return error;
}

export async function signInWithPasskey(): Promise<void> {
  const begun = await get(client.POST("/api/v1/session/passkey/begin"));
  await get(client.POST("/api/v1/session/passkey", { body: await asserted(begun) }));
}

export async function proveWithPasskey(): Promise<void> {
  const begun = await get(client.POST("/api/v1/session/passkey/begin"));
  await get(client.POST("/api/v1/session/proof/passkey", { body: await asserted(begun) }));
}

async function asserted(begun: Begun): Promise<Schema["PasskeySignIn"]> {
  try {
    const optionsJSON = begun.options as unknown as Options<typeof startAuthentication>;
    const credential = await startAuthentication({ optionsJSON });
    return { handle: begun.handle, credential: credential as unknown as Credential };
  } catch (error) {
    throw plainly(error);
  }
}

export async function addPasskey(name: string): Promise<void> {
  const begun = await get(client.POST("/api/v1/passkeys/begin"));
  const optionsJSON = begun.options as unknown as Options<typeof startRegistration>;
  let credential: Credential;
  try {
    credential = (await startRegistration({ optionsJSON })) as unknown as Credential;
  } catch (error) {
    throw plainly(error);
  }
  await get(client.POST("/api/v1/passkeys", { body: { handle: begun.handle, name, credential } }));
}
