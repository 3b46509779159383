<script setup lang="ts">
import type { LoginChoice } from "../logins";

defineProps<{ choice: LoginChoice; title: string }>();
</script>

<template>
  <label class="label" for="login">{{ title }}</label>
  <select id="login" v-model="choice.chosen.value" class="field">
    <option value="">a new one</option>
    <option v-for="item in choice.known.value" :key="item.id" :value="item.name">
      {{ item.name }} ({{ item.account }})
    </option>
  </select>
</template>
