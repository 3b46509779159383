<script setup lang="ts">
import { useMutation, useQuery } from "@tanstack/vue-query";
import { ref } from "vue";
import { useRoute, useRouter } from "vue-router";
import { client, get, ProblemError } from "../api";
import ProblemNote from "../components/ProblemNote.vue";
import { signInWithPasskey } from "../passkeys";
import { goToProvider } from "../session";

const route = useRoute();
const router = useRouter();
const user = ref("");
const password = ref("");
const code = ref("");
const wantsCode = ref(false);
const enter = useMutation({
  mutationFn: () =>
    get(
      client.POST("/api/v1/session", {
        body: { user: user.value, password: password.value, code: code.value || undefined, token: false },
      }),
    ),
  onSuccess: (signed) => goOn(signed.must_change),
  onError: (error) => {
    if (error instanceof ProblemError && error.slug === "second-factor-needed") wantsCode.value = true;
  },
});
const ways = useQuery({ queryKey: ["ways"], queryFn: () => get(client.GET("/api/v1/session/ways")) });
const toProvider = useMutation({ mutationFn: () => goToProvider(false) });
const fromProvider = useMutation({
  mutationFn: () =>
    get(
      client.POST("/api/v1/session/provider", {
        body: { state: String(route.query.state), code: String(route.query.code) },
      }),
    ),
  onSuccess: () => router.replace("/"),
});
// the provider sends whoever has signed in there back to this page
if (route.query.state && route.query.code) fromProvider.mutate();
const byPasskey = useMutation({ mutationFn: signInWithPasskey, onSuccess: () => goOn(false) });
async function goOn(mustChange: boolean): Promise<void> {
  const { to } = route.query;
  // a path of our own: "//host" would lead elsewhere
  const wanted = typeof to === "string" && /^\/(?!\/)/.test(to) ? to : "/";
  await router.replace(mustChange ? "/account" : wanted);
}
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
      <template v-if="wantsCode">
        <label class="label" for="code">Code of your authenticator, or a recovery code</label>
        <input id="code" v-model="code" class="field font-mono" autocomplete="one-time-code" required />
      </template>
      <div class="mt-4 flex items-baseline gap-4">
        <button class="button" :disabled="enter.isPending.value">Sign in</button>
        <button type="button" class="cursor-pointer text-slate hover:underline" @click="byPasskey.mutate()">
          Use a passkey
        </button>
      </div>
      <ProblemNote :error="enter.error.value ?? byPasskey.error.value" />
    </form>
    <div v-if="ways.data.value?.provider" class="mt-6 border-t border-line pt-4">
      <button type="button" class="button" :disabled="toProvider.isPending.value || fromProvider.isPending.value" @click="toProvider.mutate()">
        Sign in with {{ ways.data.value.provider }}
      </button>
      <ProblemNote :error="toProvider.error.value ?? fromProvider.error.value" />
    </div>
  </main>
</template>
