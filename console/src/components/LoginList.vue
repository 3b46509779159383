<script setup lang="ts">
import { useMutation, useQuery } from "@tanstack/vue-query";
import { ref } from "vue";
import { client, get, type Schema } from "../api";
import { when } from "../format";
import { may } from "../session";
import AdmitDialog from "./AdmitDialog.vue";
import AskDialog from "./AskDialog.vue";
import ProblemNote from "./ProblemNote.vue";

/** Logins, and where they may be used beside the systems and stores that have them. */
type Login = Schema["LoginShown"];
const PROOF: Record<Login["proves_by"], string> = {
  key: "a private key",
  password: "a password",
  agent: "an agent of the service's host",
  here: "nothing: the service itself",
};
function usedBy(count: number): string {
  if (count === 0) return "nothing";
  return count === 1 ? "1 system or store" : `${count} systems and stores`;
}
const logins = useQuery({ queryKey: ["logins"], queryFn: () => get(client.GET("/api/v1/logins")) });
const admitting = ref("");
const revoking = ref<{ login: string; address: string } | null>(null);
const revoke = useMutation({
  mutationFn: async ({ login, address }: { login: string; address: string }) => {
    await get(client.DELETE("/api/v1/logins/{name}/places", { params: { path: { name: login }, query: { address } } }));
  },
  onSuccess: async () => {
    revoking.value = null;
    await logins.refetch();
  },
});
async function admitted(): Promise<void> {
  admitting.value = "";
  await logins.refetch();
}
</script>

<template>
  <h2>Logins</h2>
  <p class="text-muted">
    A login is sent only to the systems and stores that have it, and to where an administrator admits it.
  </p>
  <ProblemNote :error="logins.error.value" />
  <div v-if="logins.data.value?.items.length" class="scroll" tabindex="0">
    <table>
      <thead>
        <tr>
          <th>Login</th>
          <th>Account</th>
          <th>Proves itself by</th>
          <th>Used by</th>
          <th>Also admitted at</th>
          <th>Changed</th>
          <th v-if="may('administrator')"><span class="sr-only">Actions</span></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="one in logins.data.value.items" :key="one.id">
          <td>{{ one.name }}</td>
          <td>
            {{ one.account }}<span v-if="one.become" class="text-muted">, by sudo as {{ one.become }}</span>
          </td>
          <td>{{ PROOF[one.proves_by] }}<template v-if="one.certificate"> with a certificate</template></td>
          <td>{{ usedBy(one.used_by) }}</td>
          <td>
            <p v-for="place in one.places" :key="place.address + place.key" class="m-0">
              {{ place.address }}
              <span class="text-muted" :title="place.key">by {{ place.by }}, {{ when(place.at) }}</span>
              <button
                v-if="may('administrator')"
                type="button"
                class="ml-2 cursor-pointer text-slate hover:underline"
                @click="revoking = { login: one.name, address: place.address }"
              >
                Revoke …<span class="sr-only"> {{ one.name }} at {{ place.address }}</span>
              </button>
            </p>
            <template v-if="!one.places.length">nowhere</template>
          </td>
          <td class="whitespace-nowrap">{{ when(one.changed) }}</td>
          <td v-if="may('administrator')">
            <button
              v-if="one.proves_by !== 'here'"
              type="button"
              class="cursor-pointer whitespace-nowrap text-slate hover:underline"
              @click="admitting = one.name"
            >
              Admit …<span class="sr-only"> {{ one.name }}</span>
            </button>
          </td>
        </tr>
      </tbody>
    </table>
  </div>
  <p v-else-if="logins.data.value" class="text-muted">
    None yet. One is made when a system is enrolled, or by <code>fennox login add NAME</code>.
  </p>
  <AdmitDialog :login="admitting" @close="admitting = ''" @admitted="admitted" />
  <AskDialog :open="revoking !== null" :title="`Revoke ${revoking?.login ?? ''}`" @close="revoking = null">
    <p>
      It is not sent to {{ revoking?.address }} any more, except for a system that has it. A run sheet that was drafted
      for that machine still uses it.
    </p>
    <div class="mt-4 flex gap-3">
      <button
        type="button"
        class="button button-ember"
        :disabled="revoke.isPending.value"
        @click="revoking && revoke.mutate(revoking)"
      >
        Revoke it
      </button>
      <button type="button" class="cursor-pointer text-muted" @click="revoking = null">Cancel</button>
    </div>
    <ProblemNote :error="revoke.error.value" />
  </AskDialog>
</template>
