<template>
  <nav><NuxtLink id="to-home" to="/">Huts</NuxtLink> <NuxtLink id="to-hut" to="/hut/h-02">Tarn Shelf</NuxtLink></nav>
  <NuxtPage />
</template>
