import { moduleOf } from './module.config.ts';

// The client as a module for bundlers.
export default moduleOf('src/index.ts', 'obitus.js');
