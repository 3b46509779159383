<script setup lang="ts">
import { useMutation } from "@tanstack/vue-query";
import { ref } from "vue";
import { useRoute, useRouter } from "vue-router";
import { client, get } from "../api";
import ProblemNote from "../components/ProblemNote.vue";

const route = useRoute();
const router = useRouter();
const user = ref("");
const password = ref("");
const enter = useMutation({
  mutationFn: () => get(client.POST("/api/v1/session", { body: { user: user.value, password: password.value, token: false } })),
  onSuccess: async () => {
    const to = typeof route.query.to === "string" && route.query.to.startsWith("/") ? route.query.to : "/";
    await router.replace(to);
  },
});
</script>

<template>
  <main id="content" class="mx-auto max-w-sm px-4 pt-24">
    <h1 class="font-mono">fennox</h1>
    <p class="mt-1 text-muted">Configuration backups that can be put back.</p>
    <form class="mt-6" @submit.prevent="enter.mutate()">
      <label class="label" for="user">User</label>
      <input id="user" v-model="user" class="field" autocomplete="username" required autofocus />
      <label class="label" for="password">Password</label>
      <input id="password" v-model="password" class="field" type="password" autocomplete="current-password" required />
      <button class="button mt-4" :disabled="enter.isPending.value">Sign in</button>
      <ProblemNote :error="enter.error.value" />
    </form>
  </main>
</template>
