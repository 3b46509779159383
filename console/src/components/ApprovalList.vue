<script setup lang="ts">
import { useMutation, useQuery } from "@tanstack/vue-query";
import { computed, ref } from "vue";
import { client, get, type Schema } from "../api";
import { when } from "../format";
import { may, reachesAll } from "../session";
import AskDialog from "./AskDialog.vue";
import ProblemNote from "./ProblemNote.vue";

/** What waits for a second person, and for which acts that is asked. */
type Approval = Schema["ApprovalShown"];
const ACTS: Record<Approval["act"], string> = {
  restore: "starting and giving up restores",
  export: "taking backups out",
  keys: "passphrases, custody, new keys, handing over",
  people: "people and sites' workers",
  logins: "logins, and where they are used",
  kinds: "kinds",
  alerts: "who is alerted",
};
const all = ref(false);
const looked = ref<Approval | null>(null);
const because = ref("");
const found = useQuery({
  queryKey: computed(() => ["approvals", all.value]),
  queryFn: () => get(client.GET("/api/v1/approvals", { params: { query: { all: all.value } } })),
  refetchInterval: 5_000,
});
const acts = useQuery({ queryKey: ["approval-acts"], queryFn: () => get(client.GET("/api/v1/approval-acts")) });
const decide = useMutation({
  mutationFn: ({ approval, verb }: { approval: string; verb: "grant" | "refuse" }) =>
    verb === "grant"
      ? get(client.POST("/api/v1/approvals/{approval}/grant", { params: { path: { approval } }, body: { because: because.value } }))
      : get(client.POST("/api/v1/approvals/{approval}/refuse", { params: { path: { approval } }, body: { because: because.value } })),
  onSuccess: async () => {
    looked.value = null;
    because.value = "";
    await found.refetch();
  },
});
const ask = useMutation({
  mutationFn: ({ act, on }: { act: Approval["act"]; on: boolean }) => {
    const now = acts.data.value?.acts ?? [];
    return get(client.PUT("/api/v1/approval-acts", { body: { acts: on ? [...now, act] : now.filter((one) => one !== act) } }));
  },
  onSettled: () => acts.refetch(),
});
function what(one: Approval): string {
  return `${one.operation.replaceAll("_", " ")} ${one.about}`;
}
</script>

<template>
  <div class="flex flex-wrap items-baseline gap-4">
    <h2>Approvals</h2>
    <label class="ml-auto text-sm text-muted"><input v-model="all" type="checkbox" class="mr-1 accent-slate" />also what was decided</label>
  </div>
  <ProblemNote :error="found.error.value ?? ask.error.value" />
  <div v-if="found.data.value?.items.length" class="scroll" tabindex="0">
    <table>
      <thead>
        <tr>
          <th>Since</th>
          <th>By</th>
          <th>What</th>
          <th>State</th>
          <th>Until</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="one in found.data.value.items" :key="one.id">
          <td class="whitespace-nowrap">{{ when(one.at) }}</td>
          <td>{{ one.by }}<span v-if="one.mine" class="text-muted"> (you)</span></td>
          <td>
            <button type="button" class="cursor-pointer text-left underline decoration-line underline-offset-3" @click="looked = one">
              {{ what(one) }}
            </button>
          </td>
          <td>
            <strong v-if="one.state === 'asked'" class="text-ember">waits for {{ one.mine ? "somebody else" : "you" }}</strong>
            <template v-else>{{ one.state }}<template v-if="one.decided_by"> by {{ one.decided_by }}</template></template>
          </td>
          <td class="whitespace-nowrap">{{ when(one.until) }}</td>
        </tr>
      </tbody>
    </table>
  </div>
  <p v-else-if="found.data.value" class="text-muted">Nothing waits for a second person.</p>

  <fieldset v-if="acts.data.value && may('administrator') && reachesAll()" class="mt-4">
    <legend class="text-sm text-muted">A second person is asked for</legend>
    <div class="mt-1 grid gap-x-8 sm:grid-cols-2">
      <label v-for="(means, act) in ACTS" :key="act" class="py-0.5">
        <input
          type="checkbox"
          class="mr-1 accent-slate"
          :checked="acts.data.value.acts.includes(act)"
          :disabled="ask.isPending.value"
          @click.prevent="ask.mutate({ act, on: !acts.data.value.acts.includes(act) })"
        />{{ means }}
      </label>
    </div>
  </fieldset>

  <AskDialog :open="looked !== null" title="What is to be done" @close="looked = null">
    <template v-if="looked">
      <dl class="mt-2 grid grid-cols-[auto_1fr] gap-x-4 gap-y-1">
        <dt class="text-muted">By</dt>
        <dd>{{ looked.by }}</dd>
        <dt class="text-muted">What</dt>
        <dd class="break-all">{{ what(looked) }}</dd>
        <template v-for="one in looked.shown" :key="one.name">
          <dt class="text-muted">{{ one.name }}</dt>
          <dd class="font-mono text-sm break-all whitespace-pre-wrap">{{ one.value }}</dd>
        </template>
        <template v-if="looked.because">
          <dt class="text-muted">Because</dt>
          <dd>{{ looked.because }}</dd>
        </template>
      </dl>
      <p v-if="looked.sheet" class="mt-3">
        <RouterLink :to="`/restores/${looked.sheet}`">Read the whole run sheet</RouterLink>: every step, and what cannot be
        undone.
      </p>
      <template v-if="looked.state === 'asked' && !looked.mine">
        <label class="label" for="because">Why, for the person who asked</label>
        <input id="because" v-model="because" class="field" maxlength="500" />
        <div class="mt-4 flex gap-3">
          <button type="button" class="button button-ember" :disabled="decide.isPending.value" @click="decide.mutate({ approval: looked.id, verb: 'grant' })">
            Let it be done, once
          </button>
          <button type="button" class="button" :disabled="decide.isPending.value" @click="decide.mutate({ approval: looked.id, verb: 'refuse' })">
            Refuse
          </button>
        </div>
      </template>
      <p v-else-if="looked.mine && looked.state === 'asked'" class="mt-3 text-muted">Somebody else must decide. Repeat what you did once it is granted.</p>
      <ProblemNote :error="decide.error.value" />
    </template>
  </AskDialog>
</template>
