<script setup lang="ts">
import { useMutation } from "@tanstack/vue-query";
import { computed, ref, watch } from "vue";
import { client, get, type Schema } from "../api";
import AskDialog from "./AskDialog.vue";
import ProblemNote from "./ProblemNote.vue";

/** Makes a person, or changes what one may do. */
type Person = Schema["UserShown"];
const props = defineProps<{ person: Person | "new" | null }>();
const emit = defineEmits<{ close: []; changed: [] }>();
const ROLES: Record<Person["role"], string> = {
  reader: "sees, never a secret",
  auditor: "sees also who did what",
  operator: "takes and restores",
  administrator: "does all",
};
const name = ref("");
const role = ref<Person["role"]>("reader");
const rights = ref<Person["rights"]>([]);
const scope = ref("");
const password = ref("");
const forget = ref(false);
const fresh = computed(() => props.person === "new");
watch(
  () => props.person,
  (one) => {
    const known = one === "new" || one === null ? null : one;
    name.value = known?.name ?? "";
    role.value = known?.role ?? "reader";
    rights.value = [...(known?.rights ?? [])];
    scope.value = known?.scope?.join("\n") ?? "";
    password.value = "";
    forget.value = false;
  },
);
const USUAL: Record<Person["role"], Person["rights"]> = {
  reader: [],
  auditor: [],
  operator: ["content"],
  administrator: ["content", "export"],
};
watch(role, (now) => (rights.value = [...USUAL[now]]), { flush: "sync" });
const keep = useMutation({
  mutationFn: async () => {
    const lines = scope.value.trim() ? scope.value.trim().split(/\s*\n\s*/) : undefined;
    const usual = [...rights.value].sort().join() === USUAL[role.value].join();
    if (fresh.value) {
      await get(
        client.POST("/api/v1/users", {
          body: { name: name.value, role: role.value, password: password.value, scope: lines, rights: usual ? undefined : rights.value },
        }),
      );
      return;
    }
    await get(
      client.PATCH("/api/v1/users/{name}", {
        params: { path: { name: name.value } },
        body: {
          role: role.value,
          usual_rights: usual,
          rights: usual ? undefined : rights.value,
          whole_estate: lines === undefined,
          scope: lines,
          password: password.value || undefined,
          forget_second_factor: forget.value,
        },
      }),
    );
  },
  onSuccess: () => emit("changed"),
});
function close(): void {
  keep.reset();
  emit("close");
}
</script>

<template>
  <AskDialog :open="person !== null" :title="fresh ? 'Let somebody sign in' : `Change ${name}`" @close="close">
    <form @submit.prevent="keep.mutate()">
      <template v-if="fresh">
        <label class="label" for="person-name">Name</label>
        <input id="person-name" v-model="name" class="field" required placeholder="night-watch" />
      </template>
      <label class="label" for="person-role">Role</label>
      <select id="person-role" v-model="role" class="field">
        <option v-for="(means, one) in ROLES" :key="one" :value="one">{{ one }}: {{ means }}</option>
      </select>
      <fieldset class="mt-3">
        <legend class="label mt-0!">Rights that go apart from the role</legend>
        <label class="mr-6"><input v-model="rights" type="checkbox" value="export" class="mr-1 accent-slate" />take backups out of Fennox</label>
        <label><input v-model="rights" type="checkbox" value="content" class="mr-1 accent-slate" />see what comparisons show</label>
      </fieldset>
      <label class="label" for="person-scope">Systems that are reached, one choice a line; empty: the whole estate</label>
      <textarea id="person-scope" v-model="scope" class="field font-mono text-sm" rows="2" placeholder="site=holm label=web" />
      <label class="label" for="person-password">{{ fresh ? "First password" : "New password, if they cannot sign in" }}</label>
      <input id="person-password" v-model="password" class="field" type="password" autocomplete="new-password" :required="fresh" />
      <p class="mt-1 text-sm text-muted">They must change it when they sign in.</p>
      <label v-if="!fresh" class="mt-3 block"
        ><input v-model="forget" type="checkbox" class="mr-1 accent-slate" />forget their authenticator, passkeys and
        recovery codes</label
      >
      <div class="mt-4 flex gap-3">
        <button class="button" :disabled="keep.isPending.value">{{ fresh ? "Let them sign in" : "Change it" }}</button>
        <button type="button" class="cursor-pointer text-muted" @click="close">Cancel</button>
      </div>
      <ProblemNote :error="keep.error.value" />
    </form>
  </AskDialog>
</template>
