<script setup lang="ts">
import { useMutation } from "@tanstack/vue-query";
import { ref } from "vue";
import { useRouter } from "vue-router";
import { client, get } from "../api";
import ProblemNote from "../components/ProblemNote.vue";

const router = useRouter();
const code = ref(window.location.hash.slice(1));
const user = ref("");
const password = ref("");
const make = useMutation({
  mutationFn: async () => {
    await get(
      client.POST("/api/v1/first-user", {
        body: { code: code.value, user: user.value, password: password.value, token: false },
      }),
    );
  },
  onSuccess: () => router.replace("/"),
});
</script>

<template>
  <main id="content" class="mx-auto max-w-sm px-4 pt-24">
    <h1>First start</h1>
    <p class="mt-1 text-muted">Make the first administrator. The code is in the service's log and works once.</p>
    <form class="mt-6" @submit.prevent="make.mutate()">
      <label class="label" for="code">Code</label>
      <input id="code" v-model="code" class="field font-mono" autocomplete="off" required />
      <label class="label" for="user">User name</label>
      <input id="user" v-model="user" class="field" autocomplete="username" required />
      <label class="label" for="password">Password: four unrelated words or more</label>
      <input id="password" v-model="password" class="field" type="password" autocomplete="new-password" required />
      <button class="button mt-4" :disabled="make.isPending.value">Make the administrator</button>
      <ProblemNote :error="make.error.value" />
    </form>
  </main>
</template>
