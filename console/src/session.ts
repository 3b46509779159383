import { ref } from "vue";
import { client, get, type Schema } from "./api";

/** Whether a fresh proof is asked for at this moment. */
export const proving = ref(false);
export const me = ref<Schema["SignedIn"] | null>(null);

export async function whoAmI(): Promise<Schema["SignedIn"]> {
  me.value = await get(client.GET("/api/v1/session"));
  return me.value;
}

/** Leaves the page for the identity provider. `fresh`: prove anew who one is, though signed in there. */
export async function goToProvider(fresh: boolean): Promise<void> {
  const begun = await get(client.POST("/api/v1/session/provider/begin", { body: { fresh } }));
  window.location.assign(begun.address);
}

type Role = Schema["SignedIn"]["role"];

export function may(role: Exclude<Role, "reader">): boolean {
  return me.value?.role === "administrator" || me.value?.role === role;
}

/** Whether they reach every system, so that what belongs to the whole estate is theirs to see. */
export function reachesAll(): boolean {
  return me.value !== null && me.value.scope === null;
}
