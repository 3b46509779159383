<script setup lang="ts">
import { useMutation } from "@tanstack/vue-query";
import { ref } from "vue";
import { client, get, ProblemError } from "../api";
import { whoAmI } from "../session";
import ProblemNote from "./ProblemNote.vue";

/** Changes one's own password. A grave act asks for a proof first, which is the old password once more. */
const old = ref("");
const wanted = ref("");
const again = ref("");
const said = ref("");
const change = useMutation({
  mutationFn: async () => {
    if (wanted.value !== again.value) throw new Error("The two new passwords are not the same.");
    try {
      await get(client.POST("/api/v1/session/password", { body: { old: old.value, new: wanted.value } }));
    } catch (error) {
      if (!(error instanceof ProblemError) || error.slug !== "proof-needed") throw error;
      await get(client.POST("/api/v1/session/proof", { body: { password: old.value } }));
      await get(client.POST("/api/v1/session/password", { body: { old: old.value, new: wanted.value } }));
    }
  },
  onMutate: () => (said.value = ""),
  onSuccess: async () => {
    old.value = wanted.value = again.value = "";
    said.value = "Your password is changed. You are signed out everywhere else; tokens of programs stay valid.";
    await whoAmI();
  },
});
</script>

<template>
  <form class="max-w-sm" @submit.prevent="change.mutate()">
    <label class="label" for="old">Password now</label>
    <input id="old" v-model="old" class="field" type="password" autocomplete="current-password" required />
    <label class="label" for="new">New password: four unrelated words or more</label>
    <input id="new" v-model="wanted" class="field" type="password" autocomplete="new-password" required />
    <label class="label" for="again">Once more</label>
    <input id="again" v-model="again" class="field" type="password" autocomplete="new-password" required />
    <button class="button mt-4" :disabled="change.isPending.value">Change it</button>
    <ProblemNote :error="change.error.value" />
    <p v-if="said" role="status" class="mt-3 border-l-2 border-good py-1 pl-3">{{ said }}</p>
  </form>
</template>
