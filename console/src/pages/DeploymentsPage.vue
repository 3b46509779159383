<script setup lang="ts">
import { useMutation, useQuery } from "@tanstack/vue-query";
import { computed, reactive, ref, watch } from "vue";
import { useRoute, useRouter } from "vue-router";
import { client, get } from "../api";
import ProblemNote from "../components/ProblemNote.vue";
import RunProgress from "../components/RunProgress.vue";
import StateWord from "../components/StateWord.vue";
import { useFollowed } from "../follow";
import { when } from "../format";
import { may } from "../session";

/** New machines on hosts, for systems whose own one is gone: a draft of another one, and all that there are. */
const route = useRoute();
const router = useRouter();
const backup = computed(() => String(route.query.backup ?? ""));
const host = ref(String(route.query.on ?? ""));
const said = [route.query.value ?? []].flat().map((pair) => String(pair).split(/=(.*)/s));
const values = reactive<Record<string, string>>(Object.fromEntries(said.map(([name, value]) => [name, value ?? ""])));
const runId = ref<string | null>(null);
const { run, now } = useFollowed(runId);
const deployments = useQuery({
  queryKey: ["deployments"],
  queryFn: () => get(client.GET("/api/v1/deployments", { params: { query: { limit: 200 } } })),
  refetchInterval: 4_000,
});
const chosen = useQuery({
  queryKey: computed(() => ["backup", backup.value]),
  queryFn: () => get(client.GET("/api/v1/backups/{backup}", { params: { path: { backup: backup.value } } })),
  enabled: computed(() => backup.value !== ""),
});
const kinds = useQuery({ queryKey: ["kinds"], queryFn: () => get(client.GET("/api/v1/kinds")) });
const systems = useQuery({ queryKey: ["system-names"], queryFn: () => get(client.GET("/api/v1/system-names")) });
const makers = computed(() => new Map((kinds.data.value?.items ?? []).filter((k) => k.makes.length).map((k) => [k.name, k.makes])));
const hosts = computed(() => (systems.data.value?.items ?? []).filter((item) => makers.value.has(item.kind)));
const asked = computed(() => makers.value.get(hosts.value.find((item) => item.name === host.value)?.kind ?? "") ?? []);
watch(hosts, (found) => {
  if (found.length === 1) host.value = found[0]!.name;
});
const draft = useMutation({
  mutationFn: () => {
    const given = asked.value.map((one) => [one.name, (values[one.name] ?? "").trim()]).filter(([, value]) => value);
    return get(
      client.POST("/api/v1/deployments", {
        body: { backup: backup.value, host: host.value, values: Object.fromEntries(given) },
      }),
    );
  },
  onSuccess: (started) => {
    runId.value = started.id;
  },
});
watch(run, async (seen) => {
  if (seen?.result?.kind === "deploy") await router.push(`/deployments/${seen.result.deployment}`);
});
</script>

<template>
  <h1>New machines</h1>
  <p class="mt-1 max-w-prose text-muted">
    For a system whose machine is gone: a new one, made on a host that is enrolled here. A restore onto it is drafted afterwards.
  </p>
  <form v-if="backup && may('operator')" class="mt-2 max-w-4xl" @submit.prevent="draft.mutate()">
    <h2>For {{ chosen.data.value?.system ?? "…" }}</h2>
    <ProblemNote :error="chosen.error.value" />
    <p v-if="chosen.data.value" class="text-muted">
      From its backup of {{ when(chosen.data.value.time) }} <code>{{ backup.slice(0, 12) }}</code
      >.
    </p>
    <p v-if="kinds.data.value && systems.data.value && !hosts.length">
      No enrolled system makes machines. Enrol a host of a kind that does:
      {{ [...makers.keys()].join(", ") || "no kind here does" }}.
    </p>
    <template v-else>
      <label class="label" for="new-host">Host</label>
      <select id="new-host" v-model="host" class="field" required>
        <option value="" disabled>choose</option>
        <option v-for="item in hosts" :key="item.id" :value="item.name">{{ item.name }} ({{ item.kind }})</option>
      </select>
      <div v-for="one in asked" :key="one.name">
        <label class="label" :for="`value-${one.name}`">{{ one.title }}</label>
        <input
          :id="`value-${one.name}`"
          v-model="values[one.name]"
          class="field font-mono"
          :placeholder="one.default || 'as backup and kind say'"
        />
      </div>
      <p class="mt-3">
        <button class="button" :disabled="!host || draft.isPending.value">Draft the machine</button>
        <span class="ml-3 text-sm text-muted">Reads the backup and asks the host. Makes nothing.</span>
      </p>
      <ProblemNote :error="draft.error.value" />
      <RunProgress v-if="run" class="mt-3" :run="run" :now="now" />
    </template>
  </form>

  <h2>All that were drafted</h2>
  <ProblemNote :error="deployments.error.value" />
  <div v-if="deployments.data.value?.items.length" class="scroll" tabindex="0" role="region" aria-label="New machines">
    <table>
      <thead>
        <tr>
          <th>Drafted</th>
          <th>For</th>
          <th>On</th>
          <th>Machine</th>
          <th>Answers at</th>
          <th>State</th>
          <th>By</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="item in deployments.data.value.items" :key="item.id">
          <td>
            <RouterLink :to="`/deployments/${item.id}`">{{ when(item.created) }}</RouterLink>
          </td>
          <td>{{ item.system }}</td>
          <td>{{ item.host }}</td>
          <td>{{ item.name || "–" }}</td>
          <td>
            <code>{{ item.address || "–" }}</code>
          </td>
          <td><StateWord :state="item.state" /></td>
          <td>{{ item.by }}</td>
        </tr>
      </tbody>
    </table>
  </div>
  <p v-else-if="deployments.data.value" class="text-muted">
    None yet. Choose a backup on the <RouterLink to="/restores">restore desk</RouterLink>, and there “have a machine made”.
  </p>
</template>
