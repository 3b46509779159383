<script setup lang="ts">
import { useMutation, useQuery } from "@tanstack/vue-query";
import { ref, watch } from "vue";
import { client, get } from "../api";
import AskDialog from "./AskDialog.vue";
import ProblemNote from "./ProblemNote.vue";

/** Makes a system's login at the drop, or a new secret for it, and shows once what to paste into the system. */
const props = defineProps<{ open: boolean; system: string }>();
const emit = defineEmits<{ close: []; made: [] }>();
const names = useQuery({ queryKey: ["system-names"], queryFn: () => get(client.GET("/api/v1/system-names")) });
const system = ref("");
const key = ref("");
const make = useMutation({
  mutationFn: () =>
    get(
      client.PUT("/api/v1/systems/{name}/drop/login", {
        params: { path: { name: system.value } },
        body: { key: key.value.trim() || null },
      }),
    ),
  onSuccess: () => emit("made"),
});
watch(
  () => props.open,
  () => {
    system.value = props.system;
    key.value = "";
    make.reset();
  },
);
</script>

<template>
  <AskDialog :open="open" :title="system ? `Login of ${system} at the drop` : 'A login at the drop'" @close="emit('close')">
    <template v-if="make.data.value">
      <p>Paste this into {{ make.data.value.system }}. The secret is shown this once.</p>
      <dl class="mt-3 grid grid-cols-[auto_1fr] gap-x-4 gap-y-1">
        <template v-if="make.data.value.sftp"><dt class="text-muted">SFTP</dt><dd><code>{{ make.data.value.sftp }}</code></dd></template>
        <template v-if="make.data.value.ftps"><dt class="text-muted">FTP with TLS</dt><dd><code>{{ make.data.value.ftps }}</code></dd></template>
        <template v-if="make.data.value.ftp"><dt class="text-muted">FTP in clear</dt><dd><code>{{ make.data.value.ftp }}</code></dd></template>
        <dt class="text-muted">Account</dt><dd><code>{{ make.data.value.account }}</code></dd>
        <dt class="text-muted">Secret</dt><dd><code>{{ make.data.value.secret }}</code></dd>
        <dt class="text-muted">Folder</dt><dd><code>{{ make.data.value.folder }}</code></dd>
        <template v-if="make.data.value.sftp"><dt class="text-muted">Host key</dt><dd class="break-all"><code>{{ make.data.value.host_key }}</code></dd></template>
        <template v-if="make.data.value.ftps"><dt class="text-muted">Certificate</dt><dd class="break-all"><code>SHA-256 {{ make.data.value.certificate }}</code></dd></template>
      </dl>
      <button type="button" class="button mt-4" @click="emit('close')">I have pasted it</button>
    </template>
    <form v-else @submit.prevent="make.mutate()">
      <p class="text-muted">The account belongs to this system alone. A secret it had before opens nothing from then on.</p>
      <label class="label" for="drop-system">System</label>
      <input id="drop-system" v-model="system" class="field" required list="drop-systems" :readonly="props.system !== ''" />
      <datalist id="drop-systems">
        <option v-for="one in names.data.value?.items" :key="one.name" :value="one.name" />
      </datalist>
      <label class="label" for="drop-key">The system's own public key, if it has one</label>
      <input id="drop-key" v-model="key" class="field" placeholder="ssh-ed25519 AAAA…" />
      <ProblemNote :error="make.error.value" />
      <div class="mt-4 flex gap-3">
        <button class="button" :disabled="make.isPending.value">Make it</button>
        <button type="button" class="cursor-pointer text-muted" @click="emit('close')">Cancel</button>
      </div>
    </form>
  </AskDialog>
</template>
