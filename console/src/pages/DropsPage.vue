<script setup lang="ts">
import { useMutation, useQuery } from "@tanstack/vue-query";
import { ref } from "vue";
import { client, get, type Schema } from "../api";
import AskDialog from "../components/AskDialog.vue";
import DropLogin from "../components/DropLogin.vue";
import ProblemNote from "../components/ProblemNote.vue";
import ReceivingEnd from "../components/ReceivingEnd.vue";
import { size, when } from "../format";
import { may, reachesAll } from "../session";

type Arrived = Schema["Arrived"];
const drops = useQuery({
  queryKey: ["drops"],
  queryFn: () => get(client.GET("/api/v1/drops")),
  refetchInterval: 3000,
});
const making = ref<string | null>(null);
const discarding = ref<{ system: string; name: string } | null>(null);
const discard = useMutation({
  mutationFn: async ({ system, name }: { system: string; name: string }) => {
    await get(
      client.POST("/api/v1/systems/{name}/drop/discard", { params: { path: { name: system } }, body: { name } }),
    );
  },
  onSuccess: async () => {
    discarding.value = null;
    await drops.refetch();
  },
});
function stateOf(file: Arrived): string {
  if (file.state === "broken") return file.problem;
  return file.state === "arrived" ? `arrived ${when(file.ended)}` : "arriving";
}
function ask(system: string, name: string): void {
  discard.reset();
  discarding.value = { system, name };
}
</script>

<template>
  <div class="flex items-baseline justify-between">
    <h1>Drops</h1>
    <button v-if="may('administrator')" type="button" class="button" @click="making = ''">Make a login</button>
  </div>
  <p class="text-muted">
    Systems that push what they have do so here. What has arrived whole is taken into a backup, and leaves the drop.
  </p>
  <ReceivingEnd v-if="reachesAll()" />
  <h2>Systems</h2>
  <ProblemNote :error="drops.error.value" />
  <p v-if="drops.data.value && !drops.data.value.items.length">
    No system may push yet. Switch on a protocol, then make a login for a system and paste it there.
  </p>
  <section v-for="one in drops.data.value?.items" :key="one.system" class="mt-4 border-t border-line pt-3">
    <div class="flex flex-wrap items-baseline gap-x-4">
      <RouterLink :to="`/systems/${one.system}`" class="font-semibold">{{ one.system }}</RouterLink>
      <span v-if="one.account" class="text-muted">
        account <code>{{ one.account }}</code>, made {{ when(one.made) }} by {{ one.by
        }}<template v-if="one.keys">, with its own key</template>
      </span>
      <span v-else class="font-semibold text-warn">has no login</span>
      <button
        v-if="may('administrator')"
        type="button"
        class="cursor-pointer text-slate hover:underline"
        @click="making = one.system"
      >
        {{ one.account ? "New secret …" : "Make a login …" }}<span class="sr-only"> for {{ one.system }}</span>
      </button>
    </div>
    <p v-if="one.waits" class="mt-1">{{ one.waits }}</p>
    <p v-if="!one.files.length" class="mt-1 text-muted">Nothing waits to be taken.</p>
    <div v-else class="scroll mt-1" tabindex="0">
      <table>
        <thead>
          <tr>
            <th>File</th>
            <th>Size</th>
            <th>Began</th>
            <th>State</th>
            <th>Content</th>
            <th><span class="sr-only">Actions</span></th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="file in one.files" :key="file.name">
            <td class="break-all">
              <code>{{ file.name }}</code>
              <span v-if="!file.expected" class="ml-2 font-semibold text-warn">its kind does not know it</span>
            </td>
            <td>{{ size(file.size) }}</td>
            <td>{{ when(file.begun) }}</td>
            <td :class="{ 'text-warn': file.state === 'broken' }">{{ stateOf(file) }}</td>
            <td>{{ file.sealed ? "sealed" : "in clear until it is taken" }}</td>
            <td>
              <button
                v-if="may('operator') && file.state !== 'arriving'"
                type="button"
                class="cursor-pointer text-slate hover:underline"
                @click="ask(one.system, file.name)"
              >
                Drop …<span class="sr-only"> {{ file.name }} of {{ one.system }}</span>
              </button>
            </td>
          </tr>
        </tbody>
      </table>
    </div>
  </section>
  <DropLogin :open="making !== null" :system="making ?? ''" @close="making = null" @made="drops.refetch()" />
  <AskDialog :open="discarding !== null" :title="`Drop ${discarding?.name}`" @close="discarding = null">
    <p>{{ discarding?.name }} of {{ discarding?.system }} is in no backup, and is lost then.</p>
    <ProblemNote :error="discard.error.value" />
    <div class="mt-4 flex gap-3">
      <button type="button" class="button" :disabled="discard.isPending.value" @click="discarding && discard.mutate(discarding)">
        Drop it
      </button>
      <button type="button" class="cursor-pointer text-muted" @click="discarding = null">Keep it</button>
    </div>
  </AskDialog>
</template>
