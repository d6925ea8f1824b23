import { mount } from 'svelte';
import './app.css';
import App from './App.svelte';
import { desk } from './lib/desk.svelte';

desk.restore();
const target = document.getElementById('console');
if (target) mount(App, { target });
