<script setup lang="ts">
import { useMutation, useQuery } from "@tanstack/vue-query";
import { computed, ref, watch } from "vue";
import { useRoute } from "vue-router";
import { client, get } from "../api";
import AskDialog from "../components/AskDialog.vue";
import FindingList from "../components/FindingList.vue";
import LeftInForce from "../components/LeftInForce.vue";
import PeerNumbers from "../components/PeerNumbers.vue";
import PlaceValues from "../components/PlaceValues.vue";
import ProblemNote from "../components/ProblemNote.vue";
import ProofTable from "../components/ProofTable.vue";
import RunProgress from "../components/RunProgress.vue";
import SheetTarget from "../components/SheetTarget.vue";
import StateWord from "../components/StateWord.vue";
import StepTable from "../components/StepTable.vue";
import WayBack from "../components/WayBack.vue";
import { useFollowed } from "../follow";
import { span, when } from "../format";
import { may } from "../session";

const id = String(useRoute().params.sheet);
const path = { sheet: id };
const asking = ref(false);
const givingUp = ref(false);
const typed = ref("");
const typedToAccept = ref("");
const returnOnFailure = ref(false);
const shown = useQuery({
  queryKey: ["sheet", id],
  queryFn: () => get(client.GET("/api/v1/restores/{sheet}", { params: { path } })),
});
const runId = computed(() => shown.data.value?.run ?? null);
const { run, now } = useFollowed(runId);
watch(run, () => shown.refetch());
const sheet = computed(() => shown.data.value?.sheet);
const gate = computed(() => sheet.value?.gates.find((item) => item.answer === null));
const acts = computed(() => (may("operator") ? (shown.data.value?.acts ?? []) : []));
const words = { begin: "Begin …", continue: "Continue …" } as const;
const startAs = computed(() => (["begin", "continue"] as const).find((act) => acts.value.includes(act)));
const prove = useMutation({
  mutationFn: () => get(client.POST("/api/v1/restores/{sheet}/prove", { params: { path } })),
  onSuccess: () => shown.refetch(),
});
const accepting = ref(false);
const named = computed(() => sheet.value?.new_name ?? sheet.value?.system_name ?? "");
const accept = useMutation({
  mutationFn: () => get(client.POST("/api/v1/restores/{sheet}/accept", { params: { path } })),
  onSuccess: async () => {
    accepting.value = false;
    await shown.refetch();
  },
});
const start = useMutation({
  mutationFn: () =>
    get(
      client.POST("/api/v1/restores/{sheet}/start", {
        params: { path },
        body: { return_on_failure: returnOnFailure.value },
      }),
    ),
  onSuccess: async () => {
    asking.value = false;
    await shown.refetch();
  },
});
const unstoppable = computed(() => sheet.value?.steps.filter((step) => !step.stoppable).map((step) => step.title) ?? []);
const saves = computed(() => sheet.value?.steps.some((step) => step.do === "safety") ?? false);
const undone = computed(() => shown.data.value?.to_undo ?? []);
const staying = computed(() => shown.data.value?.staying ?? []);
const undo = useMutation({
  mutationFn: () => get(client.POST("/api/v1/restores/{sheet}/undo", { params: { path } })),
  onSuccess: async () => {
    givingUp.value = false;
    await shown.refetch();
  },
});
const lists = computed(() =>
  sheet.value
    ? [
        { title: "Steps", steps: sheet.value.steps },
        {
          title: sheet.value.giving_up ? "Given up" : "If it is given up",
          steps: sheet.value.state === "proved" ? [] : sheet.value.undo,
        },
      ].filter((list) => list.steps.length)
    : [],
);
const answer = useMutation({
  mutationFn: (said: string) =>
    get(client.POST("/api/v1/restores/{sheet}/answer", { params: { path }, body: { gate: gate.value?.number ?? 0, answer: said } })),
  onSuccess: () => shown.refetch(),
});
</script>

<template>
  <ProblemNote :error="shown.error.value" />
  <template v-if="sheet && shown.data.value">
    <div class="flex flex-wrap items-baseline gap-4">
      <h1>Restore of {{ sheet.system_name }}</h1>
      <span><StateWord :state="sheet.state === 'waiting' ? 'waiting for you' : sheet.state" /></span>
      <span class="text-sm text-muted"
        >run sheet <code>{{ id.slice(0, 12) }}</code
        >, version {{ sheet.version }}, drafted by {{ shown.data.value.by }}, {{ when(shown.data.value.created) }}</span
      >
      <button
        v-if="startAs"
        type="button"
        class="button button-ember ml-auto"
        :disabled="shown.data.value.blockers > 0"
        @click="asking = true"
      >
        {{ words[startAs] }}
      </button>
      <button v-if="acts.includes('accept')" type="button" class="button button-ember ml-auto" @click="accepting = true">
        Accept …
      </button>
      <button v-if="acts.includes('prove')" type="button" class="button" :disabled="prove.isPending.value" @click="prove.mutate()">
        Prove it again
      </button>
      <button v-if="acts.includes('undo')" type="button" class="button" @click="givingUp = true">Give it up …</button>
    </div>

    <p class="mt-2">
      <b>{{ sheet.purpose }}</b
      ><template v-if="sheet.spare"> onto the spare {{ sheet.spare }}</template
      >. {{ shown.data.value.estate_afterwards }}
      <template v-if="sheet.accepted"> Accepted by {{ sheet.accepted_by }}, {{ when(sheet.accepted) }}.</template>
    </p>
    <p v-if="acts.includes('accept')" class="mt-3 border-l-4 border-ember bg-ember-soft px-4 py-3">
      It is proved and waits to be accepted. Look at {{ named }} yourself, then accept it.
    </p>
    <ProblemNote :error="prove.error.value" />
    <LeftInForce
      :sheet="id"
      :system="sheet.system_name"
      :steps="shown.data.value.in_force"
      :releasable="acts.includes('release')"
      @released="shown.refetch()"
    />
    <WayBack v-if="acts.includes('return')" :sheet="id" :safety="sheet.safety" />

    <div v-if="gate" class="mt-4 border-l-4 border-ember bg-ember-soft px-4 py-3">
      <p class="font-semibold">This needs you</p>
      <p class="mt-1">{{ gate.question }}</p>
      <p v-if="acts.includes('answer')" class="mt-2 flex gap-3">
        <button
          v-for="choice in gate.choices"
          :key="choice"
          type="button"
          class="button button-ember"
          :disabled="answer.isPending.value"
          @click="answer.mutate(choice)"
        >
          {{ choice[0]?.toUpperCase() + choice.slice(1) }}
        </button>
      </p>
      <ProblemNote :error="answer.error.value" />
    </div>
    <ProofTable v-if="sheet.proof" :proof="sheet.proof" />
    <RunProgress v-else-if="run && !gate" class="mt-4" :run="run" :now="now" />
    <ProblemNote :error="start.error.value" />

    <h2>Findings</h2>
    <FindingList :findings="sheet.findings" />

    <div class="grid gap-x-10 md:grid-cols-2">
      <div>
        <h2>Target</h2>
        <SheetTarget :sheet="sheet" />
      </div>
      <div>
        <h2>Afterwards</h2>
        <table>
          <tbody>
            <tr>
              <td class="text-muted">Answers at</td>
              <td>
                <code>{{ sheet.after.place.address }}</code> <span class="text-sm text-muted">{{ sheet.after.address_because }}</span>
              </td>
            </tr>
            <tr>
              <td class="text-muted">Signing in as</td>
              <td>{{ sheet.after.place.account }} <span class="text-sm text-muted">{{ sheet.after.account_because }}</span></td>
            </tr>
            <tr>
              <td class="text-muted">Known by</td>
              <td>
                <code class="break-all">{{ sheet.after.place.key }}</code> <span class="text-sm text-muted">{{ sheet.after.key_because }}</span>
              </td>
            </tr>
            <tr>
              <td class="text-muted">Takes</td>
              <td>
                {{
                  shown.data.value.expected_seconds === null
                    ? "unknown: some steps are in none of the last proved restores"
                    : `usually ${span(shown.data.value.expected_seconds)}, and what people need at gates`
                }}
              </td>
            </tr>
            <tr>
              <td class="text-muted">Restarts</td>
              <td>{{ sheet.restarts.join("; ") || "nothing" }}</td>
            </tr>
            <tr v-for="step in sheet.steps.filter((one) => one.meanwhile)" :key="step.number">
              <td class="text-muted">Meanwhile</td>
              <td>
                {{ step.meanwhile?.says }}
                <span class="text-sm text-muted">
                  From step {{ step.number }} to step {{ sheet.steps.find((one) => one.ends === step.number)?.number }}.
                </span>
              </td>
            </tr>
            <tr v-if="unstoppable.length">
              <td class="text-muted">Cannot be stopped</td>
              <td>{{ unstoppable.join("; ") }}</td>
            </tr>
            <tr>
              <td class="text-muted">Cannot be undone</td>
              <td>{{ sheet.cannot_be_undone.join("; ") || "nothing" }}</td>
            </tr>
          </tbody>
        </table>
      </div>
    </div>

    <PeerNumbers v-if="sheet.replica" :plan="sheet.replica" />
    <PlaceValues
      :sheet="id"
      :placed="sheet.placed"
      :open="acts.includes('begin') || acts.includes('continue')"
      @drafted="shown.refetch()"
    />

    <template v-for="list in lists" :key="list.title">
      <h2>{{ list.title }}</h2>
      <StepTable :steps="list.steps" />
    </template>
    <template v-if="sheet.gates.some((item) => item.answer)">
      <h2>Answers</h2>
      <ul>
        <li v-for="item in sheet.gates.filter((one) => one.answer)" :key="item.number">
          {{ item.question }} <b>{{ item.answer }}</b> <span class="text-muted">{{ item.by }}, {{ when(item.at) }}</span>
        </li>
      </ul>
    </template>

    <AskDialog :open="givingUp" title="Give the restore up" @close="givingUp = false">
      <p>On <code>{{ sheet.target.address }}</code> this is done:</p>
      <ul class="mt-1 ml-5 list-disc">
        <li v-for="step in undone" :key="step.number">{{ step.title }}</li>
        <li v-if="!undone.length">nothing: no step that has begun can be undone</li>
      </ul>
      <p class="mt-2">This stays: {{ staying.join("; ") || "nothing" }}.</p>
      <p v-if="staying.length && sheet.safety" class="mt-2">
        What the target held before is the safety copy <code>{{ sheet.safety.slice(0, 12) }}</code>. The way back puts it back.
      </p>
      <div class="mt-4 flex gap-3">
        <button type="button" class="button button-ember" :disabled="undo.isPending.value" @click="undo.mutate()">
          Give it up
        </button>
        <button type="button" class="cursor-pointer text-muted" @click="givingUp = false">Cancel</button>
      </div>
      <ProblemNote :error="undo.error.value" />
    </AskDialog>
    <AskDialog :open="accepting" title="Accept the restore" @close="accepting = false">
      <p>{{ shown.data.value.estate_afterwards }}</p>
      <form @submit.prevent="accept.mutate()">
        <label class="label" for="accept-name">Type the name, {{ named }}, to accept it</label>
        <input id="accept-name" v-model="typedToAccept" class="field" autocomplete="off" />
        <div class="mt-4 flex gap-3">
          <button class="button button-ember" :disabled="typedToAccept !== named || accept.isPending.value">
            Accept it
          </button>
          <button type="button" class="cursor-pointer text-muted" @click="accepting = false">Cancel</button>
        </div>
      </form>
      <ProblemNote :error="accept.error.value" />
    </AskDialog>
    <AskDialog :open="asking" title="Begin the restore" @close="asking = false">
      <p>
        This writes to <code>{{ sheet.target.address }}</code
        >, {{ sheet.target_product }} {{ sheet.target_version }}, machine <code class="break-all">{{ sheet.target_machine }}</code
        >. {{ sheet.overwrites.changed_count }} documents are overwritten.
        {{ saves ? "What the target holds now is saved first." : "What the target holds now is not saved." }}
      </p>
      <p class="mt-2">
        It cannot be undone by itself: {{ sheet.cannot_be_undone.join("; ") || "nothing" }}. It restarts:
        {{ sheet.restarts.join("; ") || "nothing" }}.
      </p>
      <form @submit.prevent="start.mutate()">
        <p class="mt-2">
          <b>{{ sheet.purpose }}</b
          >: {{ shown.data.value.estate_afterwards }}
        </p>
        <label v-if="saves" class="mt-2 block"
          ><input v-model="returnOnFailure" type="checkbox" class="mr-1 accent-slate" />If it fails or is not proved, put back by
          itself what was there</label
        >
        <label class="label" for="confirm-name">Type the system's name, {{ sheet.system_name }}, to begin</label>
        <input id="confirm-name" v-model="typed" class="field" autocomplete="off" />
        <div class="mt-4 flex gap-3">
          <button class="button button-ember" :disabled="typed !== sheet.system_name || start.isPending.value">
            Begin the restore
          </button>
          <button type="button" class="cursor-pointer text-muted" @click="asking = false">Cancel</button>
        </div>
      </form>
      <ProblemNote :error="start.error.value" />
    </AskDialog>
  </template>
</template>
