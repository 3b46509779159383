<script setup lang="ts">
import { useMutation, useQuery } from "@tanstack/vue-query";
import { ref } from "vue";
import { client, get, type Schema } from "../api";
import { when } from "../format";
import { may, me } from "../session";
import AskDialog from "./AskDialog.vue";
import PersonDialog from "./PersonDialog.vue";
import ProblemNote from "./ProblemNote.vue";

type Person = Schema["UserShown"];
const people = useQuery({ queryKey: ["users"], queryFn: () => get(client.GET("/api/v1/users")) });
const changing = ref<Person | "new" | null>(null);
const removing = ref("");
const remove = useMutation({
  mutationFn: async (name: string) => {
    await get(client.DELETE("/api/v1/users/{name}", { params: { path: { name } } }));
  },
  onSuccess: async () => {
    removing.value = "";
    await people.refetch();
  },
});
async function changed(): Promise<void> {
  changing.value = null;
  await people.refetch();
}
</script>

<template>
  <div class="flex flex-wrap items-baseline gap-4">
    <h2>People</h2>
    <button v-if="may('administrator')" type="button" class="button ml-auto" @click="changing = 'new'">
      Let somebody sign in …
    </button>
  </div>
  <ProblemNote :error="people.error.value" />
  <div v-if="people.data.value" class="scroll" tabindex="0">
    <table>
      <thead>
        <tr>
          <th>Name</th>
          <th>Role</th>
          <th>Rights</th>
          <th>Reaches</th>
          <th>Signs in with</th>
          <th>Last seen</th>
          <th v-if="may('administrator')"><span class="sr-only">Actions</span></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="one in people.data.value.items" :key="one.id">
          <td>{{ one.name }}<span v-if="one.name === me?.user" class="text-muted"> (you)</span></td>
          <td>{{ one.role }}</td>
          <td>{{ one.rights.join(", ") || "–" }}</td>
          <td>{{ one.scope === null ? "the whole estate" : one.scope.join("; or ") }}</td>
          <td>
            {{ one.factors.join(", ") || "nothing"
            }}<span v-if="one.must_change" class="ml-2 font-semibold text-warn">to be changed</span>
          </td>
          <td class="whitespace-nowrap">{{ one.last_used ? when(one.last_used) : "never" }}</td>
          <td v-if="may('administrator')" class="whitespace-nowrap">
            <button type="button" class="cursor-pointer text-slate hover:underline" @click="changing = one">
              Change …<span class="sr-only"> {{ one.name }}</span>
            </button>
            <button type="button" class="ml-3 cursor-pointer text-slate hover:underline" @click="removing = one.name">
              Remove …<span class="sr-only"> {{ one.name }}</span>
            </button>
          </td>
        </tr>
      </tbody>
    </table>
  </div>
  <PersonDialog :person="changing" @close="changing = null" @changed="changed" />
  <AskDialog :open="removing !== ''" :title="`Remove ${removing}`" @close="removing = ''">
    <p>Every session of theirs ends, and every token that they made.</p>
    <div class="mt-4 flex gap-3">
      <button type="button" class="button button-ember" :disabled="remove.isPending.value" @click="remove.mutate(removing)">
        Remove {{ removing }}
      </button>
      <button type="button" class="cursor-pointer text-muted" @click="removing = ''">Cancel</button>
    </div>
    <ProblemNote :error="remove.error.value" />
  </AskDialog>
</template>
