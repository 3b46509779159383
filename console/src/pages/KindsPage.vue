<script setup lang="ts">
import { useQuery } from "@tanstack/vue-query";
import { computed } from "vue";
import { useRoute } from "vue-router";
import { client, get } from "../api";
import ProblemNote from "../components/ProblemNote.vue";

const route = useRoute();
const name = route.params.name ? String(route.params.name) : "";
const kinds = useQuery({ queryKey: ["kinds"], queryFn: () => get(client.GET("/api/v1/kinds")) });
const systems = useQuery({
  queryKey: ["system-names"],
  queryFn: () => get(client.GET("/api/v1/system-names")),
});
const kind = computed(() => kinds.data.value?.items.find((k) => k.name === name));
const reach = { ssh: "SSH", https: "HTTPS", hand: "nobody: people hand in what they export", push: "nobody: it pushes by itself", service: "the service itself" };
function users(of: string): string[] {
  return (systems.data.value?.items ?? []).filter((s) => s.kind === of).map((s) => s.name);
}
/** Steps by the phase that stands before them. */
const phases = computed(() => {
  const found: Record<string, string[]> = {};
  for (const step of kind.value?.steps ?? []) {
    const [phase, ...rest] = step.split(": ");
    (found[phase ?? ""] ??= []).push(rest.join(": "));
  }
  return found;
});
</script>

<template>
  <ProblemNote :error="kinds.error.value" />
  <template v-if="!name">
    <h1>Kinds</h1>
    <p class="mt-1 max-w-prose text-muted">
      A kind says what the configuration of a system consists of, how it is read, and how it is put back. One of your own is
      one file: <code>fennox kind check</code>, <code>fennox kind try</code>, <code>fennox kind add</code>.
    </p>
    <div class="scroll mt-4">
      <table v-if="kinds.data.value">
        <thead>
          <tr>
            <th>Kind</th>
            <th>What it is</th>
            <th>Version</th>
            <th>Reached by</th>
            <th>Parts</th>
            <th>Systems here</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="item in kinds.data.value.items" :key="item.name">
            <td class="whitespace-nowrap"><RouterLink :to="`/kinds/${item.name}`">{{ item.name }}</RouterLink></td>
            <td>{{ item.title }}</td>
            <td>{{ item.version }}</td>
            <td class="whitespace-nowrap">{{ reach[item.reach] }}</td>
            <td>{{ item.parts.map((p) => p.name).join(", ") }}</td>
            <td>{{ users(item.name).length || "none" }}</td>
          </tr>
        </tbody>
      </table>
    </div>
  </template>

  <template v-else-if="kind">
    <h1>{{ kind.title }}</h1>
    <p class="text-muted">
      <code>{{ kind.name }}</code> version {{ kind.version }}, reached by {{ reach[kind.reach] }} ·
      <RouterLink to="/kinds">all kinds</RouterLink>
    </p>
    <p class="mt-2 max-w-prose">{{ kind.about }}</p>
    <p v-if="users(kind.name).length" class="mt-2">
      Of this kind here:
      <template v-for="(system, place) in users(kind.name)" :key="system"
        ><template v-if="place">, </template><RouterLink :to="`/systems/${system}`">{{ system }}</RouterLink></template
      >.
    </p>
    <h2>What is taken</h2>
    <div class="scroll" tabindex="0" role="region" aria-label="Parts">
      <table>
        <thead>
          <tr>
            <th>Part</th>
            <th>What it is</th>
            <th>Documents</th>
            <th>A restore overwrites</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="part in kind.parts" :key="part.name">
            <td class="whitespace-nowrap">
              {{ part.name }}
              <span class="block text-sm text-muted"
                >{{ part.essential ? "essential" : "" }}{{ part.default ? "" : " only when asked for" }}</span
              >
              <span v-if="part.needs.length" class="block text-sm text-muted"
                >takes along {{ part.needs.join(", ") }}</span
              >
            </td>
            <td>{{ part.title }}</td>
            <td class="text-sm">
              <code v-for="document in part.documents" :key="document" class="block wrap-anywhere">{{ document }}</code>
            </td>
            <td>{{ part.overwrites || "–" }}</td>
          </tr>
        </tbody>
      </table>
    </div>
    <p class="mt-2 text-sm text-muted">Left out on purpose: {{ kind.left_out.join("; ") || "nothing" }}</p>
    <div class="grid gap-x-10 md:grid-cols-2">
      <div>
        <h2>What is counted and proved</h2>
        <p>{{ kind.census.join(", ") }}</p>
        <h2>Rules</h2>
        <ul class="divide-y divide-line border-y border-line">
          <li v-for="rule in kind.rules" :key="rule" class="break-words py-1.5">{{ rule }}</li>
        </ul>
      </div>
      <div>
        <h2>How it is put back</h2>
        <template v-for="(steps, phase) in phases" :key="phase">
          <h3 class="mt-2 text-sm font-semibold text-muted">{{ phase }}</h3>
          <ol class="list-inside list-decimal">
            <li v-for="step in steps" :key="step">{{ step }}</li>
          </ol>
        </template>
        <template v-if="Object.keys(kind.settings).length">
          <h2>Settings of a system</h2>
          <table>
            <tbody>
              <tr v-for="(title, setting) in kind.settings" :key="setting">
                <td>
                  <code>{{ setting }}</code>
                </td>
                <td>
                  {{ title }}
                  <span v-if="kind.defaults[setting]" class="block text-sm text-muted"
                    >else <code>{{ kind.defaults[setting] }}</code></span
                  >
                </td>
              </tr>
            </tbody>
          </table>
        </template>
      </div>
    </div>
  </template>
  <p v-else-if="kinds.data.value">
    There is no kind <code>{{ name }}</code
    >. <RouterLink to="/kinds">All kinds</RouterLink>
  </p>
</template>
