import { mount } from 'svelte';
import './app.css';
import App from './App.svelte';
import { desk } from './lib/desk.svelte';
import { pageAt } from './lib/pages';
import { place } from './lib/place.svelte';

desk.restore();
// The page's code is loaded while the session is checked. Where that fails, the page says so.
pageAt(place.path)
	.page.load()
	.catch(() => undefined);
const target = document.getElementById('console');
if (target) mount(App, { target });
