<script setup lang="ts">
import { computed } from "vue";
import { ProblemError } from "../api";

const props = defineProps<{ error: unknown }>();
const text = computed(() => {
  if (props.error instanceof ProblemError) return `${props.error.problem.detail} ${props.error.problem.remedy}`;
  if (props.error instanceof Error && !(props.error instanceof TypeError)) return props.error.message;
  return props.error ? "A mistake in the page. Reload it." : "";
});
</script>

<template>
  <p v-if="text" role="alert" class="my-2 border-l-4 border-ember bg-ember-soft px-3 py-2">{{ text }}</p>
</template>
