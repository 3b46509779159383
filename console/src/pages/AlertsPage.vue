<script setup lang="ts">
import { useMutation, useQuery } from "@tanstack/vue-query";
import { ref } from "vue";
import { client, get, type Schema } from "../api";
import AlertDialog from "../components/AlertDialog.vue";
import AskDialog from "../components/AskDialog.vue";
import ProblemNote from "../components/ProblemNote.vue";
import { when } from "../format";
import { may } from "../session";

type Alert = Schema["AlertRouteShown"];
const adding = ref(false);
const removing = ref("");
const tested = ref<{ name: string; said: string; sent: boolean } | null>(null);
const alerts = useQuery({
  queryKey: ["alerts"],
  queryFn: () => get(client.GET("/api/v1/alerts")),
  refetchInterval: 10_000,
});
const test = useMutation({
  mutationFn: (name: string) => get(client.POST("/api/v1/alerts/{name}/test", { params: { path: { name } } })),
  onMutate: () => (tested.value = null),
  onSuccess: (found, name) => {
    const said = found.sent ? "The test message was taken. Look whether it arrived." : `${found.problem} ${found.remedy}`;
    tested.value = { name, said, sent: found.sent };
  },
});
const change = useMutation({
  mutationFn: ({ name, mode }: { name: string; mode: Alert["mode"] }) =>
    get(client.PATCH("/api/v1/alerts/{name}", { params: { path: { name } }, body: { mode } })),
  onSuccess: () => alerts.refetch(),
});
const remove = useMutation({
  mutationFn: async (name: string) => {
    await get(client.DELETE("/api/v1/alerts/{name}", { params: { path: { name } } }));
  },
  onSuccess: async () => {
    removing.value = "";
    await alerts.refetch();
  },
});
function added(name: string): void {
  adding.value = false;
  test.mutate(name);
}
</script>

<template>
  <div class="flex flex-wrap items-baseline gap-4">
    <h1>Alerts</h1>
    <p class="text-muted">Who is alerted when something is wrong, and when it is over. One message for each cause.</p>
    <button v-if="may('administrator')" type="button" class="button ml-auto" @click="adding = true">
      Tell somebody …
    </button>
  </div>
  <ProblemNote :error="alerts.error.value ?? test.error.value ?? change.error.value" />
  <p
    v-if="tested"
    role="status"
    class="mt-3 border-l-2 py-1 pl-3"
    :class="tested.sent ? 'border-good' : 'border-ember'"
  >
    {{ tested.name }}: {{ tested.said }}
  </p>
  <div v-if="alerts.data.value?.items.length" class="scroll mt-4" tabindex="0">
    <table>
      <thead>
        <tr>
          <th>Name</th>
          <th>By</th>
          <th>To</th>
          <th>Of</th>
          <th>When</th>
          <th>Last sent</th>
          <th>Trouble</th>
          <th v-if="may('administrator')"><span class="sr-only">Actions</span></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="item in alerts.data.value.items" :key="item.id">
          <td>
            {{ item.name }}<span v-if="item.mode === 'off'" class="ml-2 font-semibold text-warn">off</span>
          </td>
          <td>{{ item.channel }}</td>
          <td class="break-all">
            <template v-if="item.to.length">{{ item.to.join(", ") }}<br /></template>
            <code class="text-sm text-muted">{{ item.address }}</code>
          </td>
          <td>{{ item.severity === "low" ? "everything" : "what is at risk" }}, of {{ item.systems }}</td>
          <td>
            {{ item.digest || "at once" }}<template v-if="item.waiting"><br />{{ item.waiting }} waiting</template>
          </td>
          <td class="whitespace-nowrap">{{ item.last_sent ? when(item.last_sent) : "never" }}</td>
          <td :class="{ 'text-ember': item.last_error }">{{ item.last_error || "none" }}</td>
          <td v-if="may('administrator')" class="whitespace-nowrap">
            <button type="button" class="cursor-pointer text-slate hover:underline" :disabled="test.isPending.value" @click="test.mutate(item.name)">
              Test<span class="sr-only"> {{ item.name }}</span>
            </button>
            <button
              type="button"
              class="ml-3 cursor-pointer text-slate hover:underline"
              @click="change.mutate({ name: item.name, mode: item.mode === 'on' ? 'off' : 'on' })"
            >
              {{ item.mode === "on" ? "Switch off" : "Switch on" }}<span class="sr-only"> {{ item.name }}</span>
            </button>
            <button type="button" class="ml-3 cursor-pointer text-slate hover:underline" @click="removing = item.name">
              Remove …<span class="sr-only"> {{ item.name }}</span>
            </button>
          </td>
        </tr>
      </tbody>
    </table>
  </div>
  <p v-else-if="alerts.data.value" class="mt-4 border-l-2 border-ember py-1 pl-3">
    There are no alert routes. Problems show only on the Estate page.
  </p>

  <AlertDialog :open="adding" @close="adding = false" @added="added" />
  <AskDialog :open="removing !== ''" :title="`Tell nobody by ${removing} any more`" @close="removing = ''">
    <p>What waits to be sent by it is not sent.</p>
    <div class="mt-4 flex gap-3">
      <button type="button" class="button button-ember" :disabled="remove.isPending.value" @click="remove.mutate(removing)">
        Remove it
      </button>
      <button type="button" class="cursor-pointer text-muted" @click="removing = ''">Cancel</button>
    </div>
    <ProblemNote :error="remove.error.value" />
  </AskDialog>
</template>
