<script setup lang="ts">
import { Dialog, DialogPanel, DialogTitle } from "@headlessui/vue";
import { proving } from "../session";

/** `proof`: this is the one that asks for a proof. It lies over the dialog whose act needs it, which stays meanwhile. */
const props = defineProps<{ open: boolean; title: string; proof?: boolean }>();
const emit = defineEmits<{ close: [] }>();
function close(): void {
  if (props.proof || !proving.value) emit("close");
}
</script>

<template>
  <Dialog :open="open" class="relative z-10" @close="close">
    <div class="fixed inset-0 bg-ink/40" aria-hidden="true" />
    <div class="fixed inset-0 overflow-y-auto">
      <div class="flex min-h-full items-start justify-center p-4 pt-16">
        <DialogPanel class="w-full max-w-xl border border-line bg-panel p-5 text-ink shadow-lg">
          <DialogTitle as="h2" class="mt-0!">{{ title }}</DialogTitle>
          <slot />
        </DialogPanel>
      </div>
    </div>
  </Dialog>
</template>
