<script setup lang="ts">
import { useMutation, useQueryClient } from "@tanstack/vue-query";
import { ref } from "vue";
import { client, get, type Schema } from "../api";
import { me } from "../session";
import AskDialog from "./AskDialog.vue";
import ProblemNote from "./ProblemNote.vue";

/** Makes a token for a program, and shows it once. */
defineProps<{ open: boolean }>();
const emit = defineEmits<{ close: [] }>();
const queries = useQueryClient();
const name = ref("");
const kind = ref<Schema["NewToken"]["kind"]>("automation");
const role = ref<Schema["SignedIn"]["role"]>("reader");
const scope = ref("");
const days = ref(90);
const made = ref("");
const add = useMutation({
  mutationFn: () =>
    get(
      client.POST("/api/v1/tokens", {
        body: {
          name: name.value,
          kind: kind.value,
          role: kind.value === "metrics" ? "reader" : role.value,
          scope: scope.value.trim() ? scope.value.trim().split(/\s*\n\s*/) : undefined,
          days: days.value,
        },
      }),
    ),
  onSuccess: async (found) => {
    made.value = found.token;
    await queries.invalidateQueries({ queryKey: ["sessions"] });
  },
});
function close(): void {
  made.value = name.value = scope.value = "";
  add.reset();
  emit("close");
}
</script>

<template>
  <AskDialog :open="open" title="A token for a program" @close="close">
    <template v-if="made">
      <p>It is shown only once. Give it as <code>FENNOX_TOKEN</code>, or as <code>Authorization: Bearer …</code>.</p>
      <p class="mt-3 border border-line p-2 font-mono text-sm break-all">{{ made }}</p>
      <button type="button" class="button mt-4" @click="close">I have kept it</button>
    </template>
    <form v-else @submit.prevent="add.mutate()">
      <p>It can do no more than you can, and no grave act.</p>
      <label class="label" for="token-name">Name</label>
      <input id="token-name" v-model="name" class="field" required placeholder="ticket-desk-report" />
      <label class="label" for="token-kind">For</label>
      <select id="token-kind" v-model="kind" class="field">
        <option value="automation">a program that calls the API</option>
        <option value="metrics">a monitoring server, which reads /metrics and nothing else</option>
      </select>
      <template v-if="kind === 'automation'">
        <label class="label" for="token-role">As</label>
        <select id="token-role" v-model="role" class="field">
          <option value="reader">reader</option>
          <option v-if="me && me.role !== 'reader'" :value="me.role">{{ me.role }}</option>
        </select>
      </template>
      <label class="label" for="token-scope">Systems, one choice a line; empty: all that you reach</label>
      <textarea id="token-scope" v-model="scope" class="field font-mono text-sm" rows="2" placeholder="site=holm label=web" />
      <label class="label" for="token-days">Days until it ends</label>
      <input id="token-days" v-model.number="days" class="field" type="number" min="1" max="730" required />
      <div class="mt-4 flex gap-3">
        <button class="button" :disabled="add.isPending.value">Make it</button>
        <button type="button" class="cursor-pointer text-muted" @click="close">Cancel</button>
      </div>
      <ProblemNote :error="add.error.value" />
    </form>
  </AskDialog>
</template>
