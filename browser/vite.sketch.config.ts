import { moduleOf } from './module.config.ts';

// What draws a sketch: a module of its own, which the script loads when it is needed first.
export default moduleOf('src/sketch.ts', 'sketch.js');
