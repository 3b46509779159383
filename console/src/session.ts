import { ref } from "vue";
import { client, get, type Schema } from "./api";

export const me = ref<Schema["SignedIn"] | null>(null);

export async function whoAmI(): Promise<Schema["SignedIn"]> {
  me.value = await get(client.GET("/api/v1/session"));
  return me.value;
}

export function may(role: "operator" | "administrator"): boolean {
  return me.value?.role === "administrator" || (role === "operator" && me.value?.role === "operator");
}
