<script setup lang="ts">
import { useMutation, useQuery } from "@tanstack/vue-query";
import { computed, ref } from "vue";
import { client, get, type Schema } from "../api";
import { when } from "../format";
import { addPasskey } from "../passkeys";
import { me, whoAmI } from "../session";
import AskDialog from "./AskDialog.vue";
import ProblemNote from "./ProblemNote.vue";

/** One's own authenticator, recovery codes and passkeys. */
const passkeys = useQuery({ queryKey: ["passkeys"], queryFn: () => get(client.GET("/api/v1/passkeys")) });
const there = computed(() => me.value?.factors.includes("authenticator") ?? false);
const begun = ref<Schema["TotpBegun"] | null>(null);
const code = ref("");
const codes = ref<string[]>([]);
const device = ref("");
const begin = useMutation({
  mutationFn: () => get(client.POST("/api/v1/authenticator")),
  onSuccess: (found) => (begun.value = found),
});
const confirm = useMutation({
  mutationFn: () => get(client.POST("/api/v1/authenticator/confirm", { body: { code: code.value } })),
  onSuccess: (found) => {
    begun.value = null;
    code.value = "";
    codes.value = found.codes;
    void whoAmI();
  },
});
const anew = useMutation({
  mutationFn: () => get(client.POST("/api/v1/recovery-codes")),
  onSuccess: (found) => (codes.value = found.codes),
});
const said = ref("");
const remove = useMutation({
  mutationFn: async () => {
    await get(client.DELETE("/api/v1/authenticator"));
  },
  onMutate: () => (said.value = ""),
  onSuccess: () => {
    codes.value = [];
    said.value = "No code is asked for any more.";
    void whoAmI();
  },
});
const add = useMutation({
  mutationFn: () => addPasskey(device.value),
  onSuccess: async () => {
    device.value = "";
    await passkeys.refetch();
  },
});
const forget = useMutation({
  mutationFn: async (passkey: string) => {
    await get(client.DELETE("/api/v1/passkeys/{passkey}", { params: { path: { passkey } } }));
  },
  onSuccess: () => passkeys.refetch(),
});
</script>

<template>
  <h3 class="mt-4 font-semibold">Passkeys</h3>
  <p class="text-muted">A device that you unlock signs you in, without a password.</p>
  <ul v-if="passkeys.data.value?.items.length" class="mt-2">
    <li v-for="item in passkeys.data.value.items" :key="item.id" class="flex flex-wrap gap-x-4 border-b border-line py-1.5">
      <span class="font-semibold">{{ item.name }}</span>
      <span class="text-muted">since {{ when(item.created) }}, {{ item.last_used ? `last used ${when(item.last_used)}` : "never used" }}</span>
      <button type="button" class="ml-auto cursor-pointer text-slate hover:underline" @click="forget.mutate(item.id)">
        Remove<span class="sr-only"> {{ item.name }}</span>
      </button>
    </li>
  </ul>
  <form class="mt-2 flex max-w-lg items-end gap-3" @submit.prevent="add.mutate()">
    <div class="grow">
      <label class="label" for="device">Name of the device</label>
      <input id="device" v-model="device" class="field" maxlength="60" placeholder="desk key at Saltmere Quay" required />
    </div>
    <button class="button" :disabled="add.isPending.value">Add a passkey</button>
  </form>
  <ProblemNote :error="add.error.value ?? forget.error.value" />

  <h3 class="mt-6 font-semibold">Authenticator</h3>
  <p class="text-muted">A code of an app on your telephone is asked for beside the password.</p>
  <div class="mt-2 flex flex-wrap gap-4">
    <button v-if="!there" type="button" class="button" :disabled="begin.isPending.value" @click="begin.mutate()">
      Set one up
    </button>
    <template v-else>
      <span>You have one.</span>
      <button type="button" class="cursor-pointer text-slate hover:underline" @click="anew.mutate()">
        New recovery codes
      </button>
      <button type="button" class="cursor-pointer text-slate hover:underline" @click="remove.mutate()">Remove it</button>
    </template>
  </div>
  <ProblemNote :error="begin.error.value ?? anew.error.value ?? remove.error.value" />
  <p v-if="said" role="status" class="mt-3 border-l-2 border-good py-1 pl-3">{{ said }}</p>
  <AskDialog :open="begun !== null" title="Set up an authenticator" @close="begun = null">
    <form v-if="begun" @submit.prevent="confirm.mutate()">
      <p>Scan this with the app, or type the secret there.</p>
      <img :src="begun.picture" alt="QR code of the secret below" class="my-3 bg-white p-2" />
      <code class="break-all">{{ begun.secret }}</code>
      <label class="label" for="first-code">Its first code</label>
      <input id="first-code" v-model="code" class="field font-mono" inputmode="numeric" autocomplete="one-time-code" required />
      <div class="mt-4 flex gap-3">
        <button class="button" :disabled="confirm.isPending.value">Ask for it from now on</button>
        <button type="button" class="cursor-pointer text-muted" @click="begun = null">Cancel</button>
      </div>
      <ProblemNote :error="confirm.error.value" />
    </form>
  </AskDialog>
  <AskDialog :open="codes.length > 0" title="Your recovery codes" @close="codes = []">
    <p>Each signs in once in place of the code. Keep them apart from your device; they are not shown again.</p>
    <ul class="mt-3 grid grid-cols-2 gap-1 font-mono">
      <li v-for="one in codes" :key="one">{{ one }}</li>
    </ul>
    <button type="button" class="button mt-4" @click="codes = []">I have kept them</button>
  </AskDialog>
</template>
