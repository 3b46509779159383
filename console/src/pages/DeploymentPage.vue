<script setup lang="ts">
import { useMutation, useQuery } from "@tanstack/vue-query";
import { computed, ref, watch } from "vue";
import { useRoute } from "vue-router";
import { client, get, type Schema } from "../api";
import AskDialog from "../components/AskDialog.vue";
import FindingList from "../components/FindingList.vue";
import ProblemNote from "../components/ProblemNote.vue";
import RunProgress from "../components/RunProgress.vue";
import StateWord from "../components/StateWord.vue";
import { useFollowed } from "../follow";
import { when } from "../format";
import { may } from "../session";

/** One new machine: what it is made with, by which steps, how far that is, and how it is taken away. */
type Act = Schema["DeploymentShown"]["acts"][number];
const id = String(useRoute().params.deployment);
const path = { deployment: id };
const shown = useQuery({
  queryKey: ["deployment", id],
  queryFn: () => get(client.GET("/api/v1/deployments/{deployment}", { params: { path } })),
});
const runId = computed(() => shown.data.value?.run || null);
const { run, now } = useFollowed(runId);
watch(run, () => shown.refetch());
const made = computed(() => shown.data.value?.deployment);
const name = computed(() => made.value?.values.find((one) => one.name === "name")?.value ?? "");
const acts = computed<Act[]>(() => (may("operator") ? (shown.data.value?.acts ?? []) : []));
const words: Record<Act, string> = { begin: "Make it …", continue: "Go on …", undo: "Take it away …" };
const blocked = computed(() => made.value?.findings.some((finding) => finding.severity === "blocker") ?? false);
const asking = ref<Act | null>(null);
const typed = ref("");
const steps = computed(() => [
  ...(made.value?.steps ?? []),
  ...(made.value?.undo ?? []).filter((step) => step.state !== "waiting"),
]);
/** The form again, with what people said so far. */
const again = computed(() => ({
  path: "/deployments",
  query: {
    backup: shown.data.value?.backup,
    on: made.value?.host_name,
    value: made.value?.values.filter((one) => one.origin === "given").map((one) => `${one.name}=${one.value}`),
  },
}));
const untouched = computed(() => ["draft", "not drafted", "taken away"].includes(made.value?.state ?? ""));
const origins: Record<Schema["ChosenValue"]["origin"], string> = {
  given: "said by a person",
  kind: "the system's kind",
  backup: "the backup",
  host: "the host's kind",
  system: "the system's name",
  nobody: "nobody yet",
};
const act = useMutation({
  mutationFn: (wanted: Act) => {
    const body = { name: typed.value };
    return wanted === "undo"
      ? get(client.POST("/api/v1/deployments/{deployment}/undo", { params: { path }, body }))
      : get(client.POST("/api/v1/deployments/{deployment}/start", { params: { path }, body }));
  },
  onSuccess: async () => {
    asking.value = null;
    await shown.refetch();
  },
});
function ask(wanted: Act): void {
  act.reset();
  typed.value = "";
  asking.value = wanted;
}
</script>

<template>
  <ProblemNote :error="shown.error.value" />
  <template v-if="shown.data.value && made">
    <div class="flex flex-wrap items-baseline gap-x-4 gap-y-2">
      <h1>A machine for {{ made.system_name }}</h1>
      <StateWord :state="made.state" />
      <span class="ml-auto flex gap-3">
        <RouterLink
          v-if="made.state === 'made' && may('operator')"
          :to="`/restores?backup=${shown.data.value.backup}&deployed=${id}`"
          class="button button-ember"
          >Restore onto it …</RouterLink
        >
        <RouterLink v-if="untouched && may('operator')" :to="again" class="button">Draft again …</RouterLink>
        <button
          v-for="one in acts"
          :key="one"
          type="button"
          class="button"
          :disabled="one === 'begin' && blocked"
          @click="ask(one)"
        >
          {{ words[one] }}
        </button>
      </span>
    </div>
    <p class="mt-1 text-muted">
      On <RouterLink :to="`/systems/${made.host_name}`">{{ made.host_name }}</RouterLink> at <code>{{ made.host_address }}</code
      >, from backup <code>{{ shown.data.value.backup.slice(0, 12) }}</code
      >; drafted by {{ shown.data.value.by }}, {{ when(shown.data.value.created) }} ·
      <RouterLink to="/deployments">all new machines</RouterLink>
    </p>
    <p v-if="made.address" class="mt-1">
      It answers at <code>{{ made.address }}</code> by the key <code class="break-all">{{ made.key }}</code
      >, as its host tells it.
    </p>
    <p v-if="made.state === 'draft'" class="mt-1">Nothing has been made yet.</p>
    <RunProgress v-if="run" class="mt-3" :run="run" :now="now" />
    <template v-if="made.findings.length">
      <h2>What was found</h2>
      <FindingList :findings="made.findings" />
    </template>

    <h2>What it is made with</h2>
    <div class="scroll" tabindex="0" role="region" aria-label="What it is made with">
      <table>
        <thead>
          <tr>
            <th>Value</th>
            <th>Is</th>
            <th>Says</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="one in made.values" :key="one.name">
            <td>
              {{ one.title }} <span class="block text-sm text-muted">{{ one.name }}</span>
            </td>
            <td>
              <code>{{ one.value || "–" }}</code>
            </td>
            <td>{{ origins[one.origin] }}</td>
          </tr>
        </tbody>
      </table>
    </div>

    <h2>Steps on the host</h2>
    <div class="scroll" tabindex="0" role="region" aria-label="Steps on the host">
      <table>
        <thead>
          <tr>
            <th>#</th>
            <th>Step</th>
            <th>What is sent</th>
            <th>State</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="step in steps" :key="step.number">
            <td>{{ step.number }}</td>
            <td>{{ step.title }}</td>
            <td class="text-sm">
              <code class="wrap-anywhere">{{ step.command }}</code>
              <span v-if="step.detail" class="block text-muted">{{ step.detail }}</span>
            </td>
            <td><StateWord :state="step.state" /></td>
          </tr>
        </tbody>
      </table>
    </div>
    <p class="mt-2 text-sm text-muted">
      Way back: {{ made.undo.map((step) => step.title).join("; ") || "the kind of the host names none" }}.
    </p>
  </template>

  <AskDialog :open="asking !== null" :title="asking === 'undo' ? `Take ${name} away` : `Make ${name}`" @close="asking = null">
    <form @submit.prevent="asking && act.mutate(asking)">
      <p v-if="asking === 'undo'">
        {{ name }} on {{ made?.host_name }} is removed with what it holds. What was restored onto it is gone then.
      </p>
      <p v-else>On {{ made?.host_name }} the steps of this page are done, and no others.</p>
      <label class="label" for="machine-name">Type the machine's name, {{ name }}</label>
      <input id="machine-name" v-model="typed" class="field font-mono" autocomplete="off" />
      <ProblemNote :error="act.error.value" />
      <div class="mt-4 flex gap-3">
        <button class="button button-ember" :disabled="typed !== name || act.isPending.value">
          {{ asking === "undo" ? "Take it away" : "Make it" }}
        </button>
        <button type="button" class="cursor-pointer text-muted" @click="asking = null">Not now</button>
      </div>
    </form>
  </AskDialog>
</template>
