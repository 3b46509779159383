<script setup lang="ts">
import { computed } from "vue";

const props = defineProps<{ state: string }>();
const look = computed(() => {
  if (["done", "proved", "passed"].includes(props.state)) return "text-good";
  if (["failed", "not proved", "waiting for you", "unknown"].includes(props.state)) return "text-ember font-semibold";
  if (["running", "doing"].includes(props.state)) return "text-slate font-semibold";
  return "text-muted";
});
</script>

<template>
  <span :class="look">{{ state }}</span>
</template>
