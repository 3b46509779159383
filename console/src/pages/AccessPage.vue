<script setup lang="ts">
import ApprovalList from "../components/ApprovalList.vue";
import LoginList from "../components/LoginList.vue";
import PeopleList from "../components/PeopleList.vue";
import SessionList from "../components/SessionList.vue";
import SiteList from "../components/SiteList.vue";
import { may, reachesAll } from "../session";
</script>

<template>
  <h1>Access</h1>
  <p class="text-muted">Who may do what, where they are signed in, and pending approvals.</p>
  <ApprovalList />
  <template v-if="may('auditor') && reachesAll()">
    <PeopleList />
    <h2>Sessions</h2>
    <SessionList :programs="false" :everybody="true" />
    <h2>Tokens of programs</h2>
    <SessionList :programs="true" :everybody="true" />
  </template>
  <template v-if="reachesAll()">
    <LoginList />
    <SiteList />
  </template>
</template>
