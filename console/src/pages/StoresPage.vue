<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from "@tanstack/vue-query";
import { computed, ref } from "vue";
import { useRoute } from "vue-router";
import { client, get } from "../api";
import AskDialog from "../components/AskDialog.vue";
import ProblemNote from "../components/ProblemNote.vue";
import { size, when } from "../format";
import { may } from "../session";

const queries = useQueryClient();
const adding = ref(useRoute().query.add === "1");
const wanted = ref<{ name: string; address: string; passphrase: string; custody: "kept" | "apart" }>({
  name: "",
  address: "",
  passphrase: "",
  custody: "kept",
});
const stores = useQuery({ queryKey: ["stores"], queryFn: () => get(client.GET("/api/v1/stores")) });
const first = computed(() => !stores.data.value?.items.length);
const add = useMutation({
  mutationFn: () =>
    get(
      client.POST("/api/v1/stores", {
        body: { ...wanted.value, passphrase: wanted.value.passphrase || null, key_set: "main", plain_names: true },
      }),
    ),
  onSuccess: async () => {
    wanted.value = { name: "", address: "", passphrase: "", custody: "kept" };
    adding.value = false;
    await queries.invalidateQueries();
  },
});
const test = useMutation({
  mutationFn: (name: string) => get(client.POST("/api/v1/stores/{name}/test", { params: { path: { name } } })),
});
</script>

<template>
  <div class="flex items-baseline justify-between">
    <h1>Stores</h1>
    <button v-if="may('administrator')" type="button" class="button" @click="adding = true">Add a store</button>
  </div>
  <ProblemNote :error="stores.error.value" />
  <p v-if="stores.data.value && first" class="mt-3">
    There is no store yet. A store is an empty folder, best on a disk or share away from what it protects.
  </p>
  <section v-for="store in stores.data.value?.items" :key="store.id" class="mt-6 border-t-2 border-ink pt-2">
    <div class="flex flex-wrap items-baseline gap-4">
      <h2 class="m-0!">{{ store.name }}</h2>
      <code>{{ store.address }}</code>
      <button
        v-if="may('operator')"
        type="button"
        class="button ml-auto"
        :disabled="test.isPending.value"
        @click="test.mutate(store.name)"
      >
        Test
      </button>
    </div>
    <div class="mt-2 grid gap-x-10 md:grid-cols-2">
      <table>
        <tbody>
          <tr>
            <td class="text-muted">Backups</td>
            <td>{{ store.backups }}, newest {{ when(store.newest) }}</td>
          </tr>
          <tr>
            <td class="text-muted">Room</td>
            <td>
              <template v-if="store.free !== null">{{ size(store.free) }} free of {{ size(store.total ?? 0) }}</template
              ><template v-else>not told</template>
            </td>
          </tr>
          <tr>
            <td class="text-muted">Custody</td>
            <td>
              {{ store.custody === "kept" ? "kept: the service can open it too" : "apart: only the passphrase opens it" }}
            </td>
          </tr>
          <tr>
            <td class="text-muted">Key set</td>
            <td>{{ store.key_set }}, generation {{ store.generation }}</td>
          </tr>
          <tr>
            <td class="text-muted">Passphrases</td>
            <td>{{ store.passphrases.map((slot) => slot.label).join(", ") }}</td>
          </tr>
        </tbody>
      </table>
      <ul>
        <li v-for="warning in store.warnings" :key="warning" class="flex gap-3 py-1">
          <span class="shrink-0 text-sm font-semibold text-warn">Look at</span>{{ warning }}
        </li>
      </ul>
    </div>
    <template v-if="test.variables.value === store.name">
      <ProblemNote :error="test.error.value" />
      <ul v-if="test.data.value" class="mt-2" aria-live="polite">
        <li v-for="check in test.data.value.checks" :key="check.title" class="py-0.5">
          <span class="inline-block w-20 text-sm font-semibold" :class="check.passed ? 'text-good' : 'text-ember'">{{
            check.passed ? "Passed" : "Failed"
          }}</span>
          {{ check.title }} <span class="text-muted">{{ check.detail }}</span>
        </li>
      </ul>
    </template>
  </section>

  <AskDialog :open="adding" title="Add a store" @close="adding = false">
    <form @submit.prevent="add.mutate()">
      <label class="label" for="store-name">Name</label>
      <input id="store-name" v-model="wanted.name" class="field" required placeholder="attic" />
      <label class="label" for="store-address">Empty folder on the machine that runs the workers</label>
      <input id="store-address" v-model="wanted.address" class="field font-mono" required placeholder="/srv/backups" />
      <fieldset v-if="first" class="mt-3">
        <legend class="text-sm text-muted">Who can open the backups</legend>
        <label class="block"
          ><input v-model="wanted.custody" type="radio" value="kept" class="mr-1 accent-slate" />the service too: checks
          and comparisons need no person</label
        >
        <label class="block"
          ><input v-model="wanted.custody" type="radio" value="apart" class="mr-1 accent-slate" />only who knows the
          passphrase: every restore asks for it</label
        >
      </fieldset>
      <label class="label" for="store-passphrase">{{
        first ? "Passphrase: five unrelated words or more" : "Passphrase of the key set (needed if it is kept apart)"
      }}</label>
      <input id="store-passphrase" v-model="wanted.passphrase" type="password" class="field" :required="first" autocomplete="off" />
      <p class="mt-1 text-sm text-muted">
        Keep it where it is found when this machine is gone. Nobody can open the backups without it.
      </p>
      <div class="mt-4 flex gap-3">
        <button class="button" :disabled="add.isPending.value">Add and prove it</button>
        <button type="button" class="cursor-pointer text-muted" @click="adding = false">Cancel</button>
      </div>
      <ProblemNote :error="add.error.value" />
    </form>
  </AskDialog>
</template>
