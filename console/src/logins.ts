import { useQuery, useQueryClient } from "@tanstack/vue-query";
import { computed, ref, type ComputedRef, type Ref } from "vue";
import { client, get } from "./api";
import type { components } from "./schema";

type Login = components["schemas"]["LoginShown"];

export interface LoginChoice {
  chosen: Ref<string>;
  made: Ref<{ name: string; account: string; secret: string; become: string }>;
  known: ComputedRef<Login[]>;
  /** The chosen login's name; a new one is kept first. */
  used: () => Promise<string>;
  forget: () => void;
}

/** A login that is chosen from those there are, or made on the way. `here`: for a machine that is read from itself. */
export function useLoginChoice(here: () => boolean = () => false): LoginChoice {
  const queries = useQueryClient();
  const logins = useQuery({ queryKey: ["logins"], queryFn: () => get(client.GET("/api/v1/logins")) });
  const chosen = ref("");
  const made = ref({ name: "", account: "", secret: "", become: "" });
  const known = computed(() => logins.data.value?.items ?? []);
  async function used(): Promise<string> {
    if (chosen.value !== "") return chosen.value;
    const { name, account, secret, become } = made.value;
    if (!known.value.some((item) => item.name === name)) {
      const as = secret.includes("PRIVATE KEY") ? "private_key" : "password";
      const proof = here() ? { here: true } : { here: false, [as]: secret };
      await get(client.POST("/api/v1/logins", { body: { name, account, become, certificate: "", agent: false, ...proof } }));
      await queries.invalidateQueries({ queryKey: ["logins"] });
    }
    chosen.value = name;
    return name;
  }
  function forget(): void {
    made.value.secret = "";
  }
  return { chosen, made, known, used, forget };
}
