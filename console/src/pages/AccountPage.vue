<script setup lang="ts">
import { ref } from "vue";
import PasswordForm from "../components/PasswordForm.vue";
import SecondFactors from "../components/SecondFactors.vue";
import SessionList from "../components/SessionList.vue";
import TokenDialog from "../components/TokenDialog.vue";
import { me } from "../session";

const adding = ref(false);
</script>

<template>
  <template v-if="me">
    <h1>{{ me.user }}</h1>
    <p class="text-muted">
      {{ me.role }}, {{ me.scope === null ? "reaching the whole estate" : `reaching ${me.scope.map((list) => list.join("; or ")).join(" and ")}` }}.
      Rights apart from that: {{ me.rights.join(", ") || "none" }}.
    </p>
    <p v-if="me.must_change" role="alert" class="mt-3 border-l-4 border-ember bg-ember-soft px-3 py-2">
      Your password was set by somebody else, who knows it. Change it first; nothing else can be done until then.
    </p>
    <template v-if="me.factors.includes('password')">
      <h2>Password</h2>
      <PasswordForm />
    </template>
    <p v-else class="mt-3">Your identity provider vouches for you; your password is kept there.</p>
    <template v-if="!me.must_change">
      <h2>What else you sign in with</h2>
      <SecondFactors />
      <h2>Where you are signed in</h2>
      <SessionList :programs="false" :everybody="false" />
      <div class="flex flex-wrap items-baseline gap-4">
        <h2>Tokens of your programs</h2>
        <button type="button" class="button ml-auto" @click="adding = true">Make a token …</button>
      </div>
      <SessionList :programs="true" :everybody="false" />
      <TokenDialog :open="adding" @close="adding = false" />
    </template>
  </template>
</template>
