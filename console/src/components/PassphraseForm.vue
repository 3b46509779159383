<script setup lang="ts">
import { useMutation } from "@tanstack/vue-query";
import { ref } from "vue";
import { client, get } from "../api";
import ProblemNote from "./ProblemNote.vue";

const props = defineProps<{ run: string }>();
const passphrase = ref("");
const give = useMutation({
  mutationFn: () =>
    get(
      client.POST("/api/v1/runs/{run}/passphrase", {
        params: { path: { run: props.run } },
        body: { passphrase: passphrase.value },
      }),
    ),
  onSuccess: () => {
    passphrase.value = "";
  },
});
</script>

<template>
  <form class="my-3 max-w-md border-l-4 border-ember pl-4" @submit.prevent="give.mutate()">
    <label class="label" for="passphrase">
      The store is kept apart from the service. Its passphrase opens it for this run, in memory only.
    </label>
    <input id="passphrase" v-model="passphrase" class="field" type="password" autocomplete="off" required />
    <button class="button button-ember mt-2" :disabled="give.isPending.value">Open</button>
    <ProblemNote :error="give.error.value" />
  </form>
</template>
