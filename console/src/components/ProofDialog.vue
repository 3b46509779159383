<script setup lang="ts">
import { useMutation } from "@tanstack/vue-query";
import { ref } from "vue";
import { client, get, ProblemError, provesBy } from "../api";
import { proveWithPasskey } from "../passkeys";
import { goToProvider, me, proving } from "../session";
import AskDialog from "./AskDialog.vue";
import ProblemNote from "./ProblemNote.vue";

/** Asks for a fresh proof of who somebody is, whenever a grave act needs one; then the act goes on by itself. */
const password = ref("");
const code = ref("");
const wantsCode = ref(false);
let settle: { done: () => void; leave: () => void } | null = null;

provesBy(
  () =>
    new Promise<void>((resolve, reject) => {
      settle = { done: resolve, leave: () => reject(new Error("cancelled")) };
      proving.value = true;
    }),
);

const prove = useMutation({
  mutationFn: () =>
    get(client.POST("/api/v1/session/proof", { body: { password: password.value, code: code.value || undefined } })),
  onSuccess: done,
  onError: (error) => {
    if (error instanceof ProblemError && error.slug === "second-factor-needed") wantsCode.value = true;
  },
});
const byProvider = useMutation({ mutationFn: () => goToProvider(true) });
const byPasskey = useMutation({ mutationFn: proveWithPasskey, onSuccess: done });

function done(): void {
  close();
  settle?.done();
}
function leave(): void {
  close();
  settle?.leave();
}
function close(): void {
  proving.value = false;
  password.value = code.value = "";
  wantsCode.value = false;
  prove.reset();
  byPasskey.reset();
}
</script>

<template>
  <AskDialog proof :open="proving" title="Prove that it is you" @close="leave">
    <p>This is a grave act. The proof counts for ten minutes.</p>
    <template v-if="!me?.factors.includes('password')">
      <p class="mt-2">Your identity provider vouches for you. Sign in there again, then repeat what you did.</p>
      <div class="mt-4 flex flex-wrap items-baseline gap-4">
        <button type="button" class="button" @click="byProvider.mutate()">Sign in again</button>
        <button type="button" class="cursor-pointer text-muted" @click="leave">Cancel</button>
      </div>
      <ProblemNote :error="byProvider.error.value" />
    </template>
    <form v-else @submit.prevent="prove.mutate()">
      <label class="label" for="proof-password">Password</label>
      <input
        id="proof-password"
        v-model="password"
        class="field"
        type="password"
        autocomplete="current-password"
        required
      />
      <template v-if="wantsCode">
        <label class="label" for="proof-code">Code of your authenticator, or a recovery code</label>
        <input id="proof-code" v-model="code" class="field font-mono" autocomplete="one-time-code" required />
      </template>
      <div class="mt-4 flex flex-wrap items-baseline gap-4">
        <button class="button" :disabled="prove.isPending.value">Go on</button>
        <button type="button" class="cursor-pointer text-slate hover:underline" @click="byPasskey.mutate()">
          Use a passkey
        </button>
        <button type="button" class="cursor-pointer text-muted" @click="leave">Cancel</button>
      </div>
      <ProblemNote :error="prove.error.value ?? byPasskey.error.value" />
    </form>
  </AskDialog>
</template>
